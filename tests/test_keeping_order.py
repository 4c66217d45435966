"""Keeping out, blocking, slowing down, hiding and reporting, through every door that leads in."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from uuid import uuid4

import httpx
import pytest

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.commands import Post
from nestrel.core.problems import OverQuota
from nestrel.core.times import format_time
from nestrel.store.database import Database
from nestrel.store.write import reports
from nestrel.store.write.writer import Writer
from tests.support import Person, Served, call, make_place, once

Make = Callable[..., Person]


def same(*answers: httpx.Response) -> bool:
    """Whether refusals are the same to the byte, but for the request that each names."""
    told = [{**one.json(), "instance": None} for one in answers]
    return all(one == told[0] for one in told)


async def nothing_there(who: Person, place: str, seq: int, token: str) -> None:
    """Wherever somebody looks, the conversation answers as one that never was."""
    never = str(uuid4())
    for method, path, body in (
        ("GET", "", None), ("GET", "/messages", None), ("GET", f"/messages/{seq}", None), ("GET", "/members", None),
        ("GET", "/changes", None), ("GET", "/stream", None), ("GET", "/retention", None), ("GET", "/kept-out", None),
        ("POST", "/messages", {"body": "in"}), ("PUT", "/members/me", {}), ("PUT", "/receipt", {"read_seq": 1}),
        ("PUT", f"/messages/{seq}/reactions/like", None), ("POST", f"/messages/{seq}/reports", {"reason": "r"}),
        ("DELETE", "/members/me", None), ("PATCH", "", {"title": "x"}),
    ):  # fmt: skip
        here = await call(who, method, f"/conversations/{place}{path}", body, 404)
        there = await call(who, method, f"/conversations/{never}{path}", body, 404)
        assert here.text.replace(place, never).split('"instance"')[0] == there.text.split('"instance"')[0]
        assert here.headers.keys() == there.headers.keys()
    for path in (f"/invitations/{token}", f"/search?q=hello&conversation_id={place}"):
        await call(who, "GET", path, None, 404)
    await call(who, "POST", f"/invitations/{token}/accept", None, 404)
    listed = (await call(who, "GET", "/conversations?scope=open&limit=200")).json()["items"]
    assert place not in [one["id"] for one in listed]
    async with who.socket() as wire:
        for frame in (
            {"type": "follow"}, {"type": "post", "key": "k", "body": "in"}, {"type": "read", "read_seq": 1},
            {"type": "edit", "seq": seq, "body": "x"}, {"type": "react", "seq": seq, "symbol": "like"},
        ):  # fmt: skip
            refused = await wire.command(conversation_id=place, **frame)
            assert refused["problem"]["status"] == 404, refused


async def test_for_whom_is_kept_out_the_conversation_does_not_exist(person: Make) -> None:
    mara, odd, ines = person(), person(), person()
    place = (await mara.make(visibility="open", members=[odd.user]))["id"]
    seq = (await odd.post(place)).json()["seq"]
    token = (await call(mara, "POST", f"/conversations/{place}/invitations", {}, 201)).json()["token"]
    here = f"/conversations/{place}/kept-out/{odd.user}"
    async with odd.socket() as wire:
        await wire.command(type="follow", conversation_id=place)
        kept = (await call(mara, "PUT", here, {"reason": "shouting at the tide"}, 201)).json()
        assert (kept["user_id"], kept["until"], kept["reason"], kept["kept_out_by"]) == (
            odd.user, None, "shouting at the tide", mara.user,
        )  # fmt: skip
        ended = await wire.get()
        assert (ended["type"], ended["reason"]) == ("unfollowed", "removed")
    await nothing_there(odd, place, seq, token)
    await call(ines, "PUT", f"/conversations/{place}/members/me", {}, 201)  # others join as ever
    for who, status in ((mara, 403), (person(scope="nestrel.service"), 403), (ines, 403)):
        await call(who, "PUT", f"/conversations/{place}/members/{odd.user}", {}, status)
    [listed] = (await call(mara, "GET", f"/conversations/{place}/kept-out")).json()["items"]
    assert listed == kept
    soon = format_time(datetime.now(UTC) + timedelta(hours=1))
    assert (await call(mara, "PUT", here, {"until": soon}, 200)).json()["until"] == soon
    for _ in range(2):
        await call(mara, "DELETE", here, None, 204)
    assert (await call(odd, "GET", f"/conversations/{place}", None, 200)).json()["my_role"] is None
    await call(odd, "PUT", f"/conversations/{place}/members/me", {}, 201)


async def test_a_time_that_is_over_keeps_nobody_out(person: Make) -> None:
    mara, odd = person(), person()
    place = (await mara.make(visibility="open"))["id"]
    here = f"/conversations/{place}/kept-out/{odd.user}"
    soon = datetime.now(UTC) + timedelta(seconds=1)
    await call(mara, "PUT", here, {"until": format_time(soon)}, 201)
    await once(lambda: odd.http.get(f"/conversations/{place}"), lambda answer: answer.status_code == 200)
    assert datetime.now(UTC) >= soon
    assert (await call(mara, "GET", f"/conversations/{place}/kept-out")).json()["items"] == []
    await call(mara, "PUT", here, {"until": format_time(soon)}, 422)


async def test_nobody_keeps_out_their_equals_or_themselves(person: Make) -> None:
    mara, odd, ines, lotte = person(), person(), person(), person()
    office = person(scope="nestrel.service")
    place = (await mara.make(members=[ines.user, lotte.user]))["id"]
    for who in (odd, lotte):
        await call(mara, "PUT", f"/conversations/{place}/members/{who.user}", {"role": "moderator"})
    for who, target, status in (
        (odd, lotte, 403), (odd, mara, 403), (odd, odd, 403), (mara, mara, 403), (ines, lotte, 403),
        (office, mara, 403),
        (person(), ines, 404), (odd, ines, 201), (mara, odd, 201), (office, lotte, 201),
    ):  # fmt: skip
        await call(who, "PUT", f"/conversations/{place}/kept-out/{target.user}", None, status)
    direct = (await mara.make(kind="direct", members=[lotte.user]))["id"]
    await call(mara, "PUT", f"/conversations/{direct}/kept-out/{lotte.user}", None, 422)
    await call(mara, "GET", f"/conversations/{direct}/kept-out", None, 422)


async def test_between_two_of_whom_one_blocks_the_other_nothing_is_written(person: Make) -> None:
    mara, odd, office = person(), person(), person(scope="nestrel.service")
    place = (await mara.make(kind="direct", members=[odd.user]))["id"]
    posted = (await mara.post(place, "before", key="k")).json()
    await call(odd, "GET", f"/me/blocked/{mara.user}", None, 404)
    blocked = (await call(odd, "PUT", f"/me/blocked/{mara.user}", None, 201)).json()
    assert (await call(odd, "GET", f"/me/blocked/{mara.user}")).json() == blocked
    await call(mara, "GET", f"/me/blocked/{odd.user}", None, 404)  # nobody is told
    assert (await call(odd, "PUT", f"/me/blocked/{mara.user}", {}, 200)).json() == blocked
    assert (await call(odd, "GET", "/me/blocked")).json()["items"] == [blocked]
    refused = [await who.post(place, "after") for who in (mara, odd)]
    assert [one.status_code for one in refused] == [403, 403]
    assert same(*refused)
    for_mara = await office.post(place, "after", on_behalf_of=mara.user)
    assert for_mara.status_code == 403
    edited = await call(mara, "PATCH", f"/conversations/{place}/messages/{posted['seq']}", {"body": "reworded"})
    assert edited.status_code == 403
    assert (await mara.post(place, "before", key="k")).status_code == 200  # a repeat is answered
    message = f"/conversations/{place}/messages/{posted['seq']}"
    for who in (mara, odd):
        others = [
            await who.http.put(f"{message}/reactions/like"), await who.upload(place, b"berth plan"),
            await who.http.put(f"/conversations/{place}/receipt", json={"read_seq": 1}),
        ]  # fmt: skip
        assert [one.status_code for one in others] == [403] * 3
        assert same(refused[0], *others)
    async with mara.socket() as wire:
        answer = await wire.command(type="post", conversation_id=place, key="w", body="after")
        assert answer["problem"]["detail"] == refused[0].json()["detail"]
    await call(mara, "DELETE", f"/conversations/{place}/messages/{posted['seq']}", None, 200)
    other = person()
    await call(mara, "PUT", f"/me/blocked/{other.user}", None, 201)
    opened = [
        await who.http.post("/conversations", json={"kind": "direct", "members": [whom.user]})
        for who, whom in ((mara, other), (other, mara))
    ]
    assert [one.status_code for one in opened] == [403, 403]
    assert same(*opened)
    for _ in range(2):
        await call(odd, "DELETE", f"/me/blocked/{mara.user}", None, 204)
    assert (await mara.post(place, "again")).status_code == 201
    await call(mara, "PUT", "/me/blocked/me", None, 422)


async def test_a_block_and_the_opening_of_a_conversation_meet(person: Make) -> None:
    """Made at one moment, there is no conversation, or one that takes nothing."""
    for _ in range(12):
        mara, odd = person(), person()
        made, _ = await asyncio.gather(
            mara.http.post("/conversations", json={"kind": "direct", "members": [odd.user]}),
            odd.http.put(f"/me/blocked/{mara.user}"),
        )
        if made.status_code == 201:
            assert (await mara.post(made.json()["id"])).status_code == 403
        else:
            assert made.status_code == 403


async def test_whom_members_add_is_theirs_to_say(own: Served, make_database: Callable[[], str]) -> None:
    """Blocked, not acquainted, or a matter of the backend: the refusals are the same to the byte."""
    with (
        Served(make_database(), NESTREL_ADD_MEMBERS="backend", NESTREL_MAKE_CONVERSATIONS="backend") as strict,
        Served(make_database(), NESTREL_ADD_MEMBERS="acquainted", NESTREL_QUOTA_ADDITIONS="2") as known,
    ):
        refusals, alone = list[httpx.Response](), list[httpx.Response]()
        for served in (own, strict.wait_ready(), known.wait_ready()):
            mara, odd, office = (
                Person(served.url, name, **claims)
                for name, claims in (("mara", {}), ("odd", {}), ("office", {"scope": "nestrel.service"}))
            )
            place = (await office.make(members=["office", "mara"]))["id"]
            await call(office, "PATCH", f"/conversations/{place}/members/mara", {"role": "owner"}, 200)
            await call(odd, "PUT", "/me/blocked/mara")
            refusals.append(await call(mara, "PUT", f"/conversations/{place}/members/odd", {}, 403))
            await call(office, "PUT", f"/conversations/{place}/members/odd", {}, 201)
            await call(mara, "DELETE", f"/conversations/{place}/members/odd", None, 204)
            made = await call(mara, "POST", "/conversations", {"title": "x", "members": ["odd"]})
            assert made.status_code == 403
            direct = await call(mara, "POST", "/conversations", {"kind": "direct", "members": ["odd"]}, 403)
            (alone if served is strict else refusals).append(direct)
            await call(odd, "DELETE", "/me/blocked/mara", None, 204)
            if served is strict:  # that nobody makes any is no secret, and the same whoever has blocked whom
                alone.append(await call(mara, "POST", "/conversations", {"kind": "direct", "members": ["odd"]}, 403))
            await call(odd, "PUT", "/me/blocked/mara")
        assert same(*refusals)
        assert same(*alone)
        # Acquainted: in one closed group, or a direct conversation, with each other.
        mara, odd = Person(known.url, "mara"), Person(known.url, "odd")
        await call(odd, "DELETE", "/me/blocked/mara", None, 204)
        await call(mara, "POST", "/conversations", {"members": ["odd"]}, 403)
        await call(Person(known.url, "office", scope="nestrel.service"), "POST", "/conversations",
                   {"members": ["mara", "odd"]}, 201)  # fmt: skip
        await call(mara, "POST", "/conversations", {"members": ["odd"]}, 201)


async def test_quotas_are_exact_also_at_one_moment(make_database: Callable[[], str]) -> None:
    with Served(
        make_database(), NESTREL_QUOTA_CONVERSATIONS="3", NESTREL_QUOTA_ADDITIONS="4", NESTREL_QUOTA_MEMBERS="6",
        NESTREL_QUOTA_MEMBERSHIPS="4",
    ) as served:  # fmt: skip
        served.wait_ready()
        mara, office = Person(served.url, "mara"), Person(served.url, "office", scope="nestrel.service")
        made = await asyncio.gather(*(mara.http.post("/conversations", json={}) for _ in range(8)))
        assert sorted(one.status_code for one in made) == [201] * 3 + [403] * 5
        over = next(one for one in made if one.status_code == 403)
        assert (over.json()["type"], over.json()["quota"], over.json()["limit"]) == (
            "/problems/over-quota", "conversations", 3,
        )  # fmt: skip
        assert 0 < int(over.headers["retry-after"]) <= 86_400
        place = next(one for one in made if one.status_code == 201).json()["id"]
        added = await asyncio.gather(
            *(mara.http.put(f"/conversations/{place}/members/p{n}", json={}) for n in range(8))
        )
        assert sorted(one.status_code for one in added) == [201] * 4 + [403] * 4
        assert {one.json()["quota"] for one in added if one.status_code == 403} == {"additions"}
        await call(office, "PATCH", f"/conversations/{place}", {"visibility": "open"}, 200)
        joined = [
            await call(Person(served.url, f"j{n}"), "PUT", f"/conversations/{place}/members/me", {}) for n in (1, 2)
        ]
        assert [one.status_code for one in joined] == [201, 403]
        assert joined[1].json()["quota"] == "members"
        await call(office, "PUT", f"/conversations/{place}/members/beyond", {}, 201)  # a backend is not bound
        open_ = (await office.make(visibility="open"))["id"]
        await call(mara, "PUT", f"/conversations/{open_}/members/me", {}, 201)
        full = await call(
            mara, "PUT", f"/conversations/{(await office.make(visibility='open'))['id']}/members/me", {}, 403
        )
        assert full.json()["quota"] == "memberships"


async def test_writers_post_once_in_the_interval(person: Make) -> None:
    mara, odd = person(), person()
    place = (await mara.make(members=[odd.user]))["id"]
    changed = (await call(mara, "PATCH", f"/conversations/{place}", {"post_interval": 600}, 200)).json()
    assert changed["post_interval"] == 600
    await call(odd, "PATCH", f"/conversations/{place}", {"post_interval": None}, 403)
    batch = {"messages": [{"key": "b1", "body": "one"}, {"key": "b2", "body": "two"}]}
    refused = await call(odd, "POST", f"/conversations/{place}/messages/batch", batch, 429)
    assert 0 < int(refused.headers["retry-after"]) <= 600
    assert (await odd.post(place, "first", key="k")).status_code == 201
    again = await odd.post(place, "second")
    assert (again.status_code, 590 < int(again.headers["retry-after"]) <= 600) == (429, True)
    assert (await odd.post(place, "first", key="k")).status_code == 200
    await call(odd, "PATCH", f"/conversations/{place}/messages/1", {"body": "reworded"}, 200)
    async with odd.socket() as wire:
        answer = await wire.command(type="post", conversation_id=place, key="s", body="x")
        assert answer["problem"]["retry_after"] > 590
    for _ in range(3):  # who rules is not slowed down
        assert (await mara.post(place)).status_code == 201
    posted = await asyncio.gather(*(odd.post(place, f"{n}") for n in range(5)))
    assert {one.status_code for one in posted} == {429}
    await call(mara, "PATCH", f"/conversations/{place}", {"post_interval": None}, 200)
    assert (await odd.post(place, "at last")).status_code == 201


async def test_of_many_posts_at_one_moment_one_is_taken(person: Make) -> None:
    mara, odd = person(), person()
    place = (await mara.make(members=[odd.user]))["id"]
    await call(mara, "PATCH", f"/conversations/{place}", {"post_interval": 60}, 200)
    posted = await asyncio.gather(*(odd.post(place, f"{n}") for n in range(20)))
    assert sorted(one.status_code for one in posted) == [201] + [429] * 19


async def test_the_two_of_a_direct_conversation_are_equals(person: Make) -> None:
    mara, odd = person(), person()
    place = (await mara.make(kind="direct", members=[odd.user]))["id"]
    roles = [(await call(who, "GET", f"/conversations/{place}")).json()["my_role"] for who in (mara, odd)]
    assert roles[0] == roles[1]
    first = (await mara.post(place)).json()["seq"]
    for who, status in ((odd, 403), (mara, 200)):
        await call(who, "DELETE", f"/conversations/{place}/messages/{first}", None, status)
    for who in (mara, odd):
        await call(who, "PUT", f"/conversations/{place}/retention", {"keep_last": 5, "then": "discard"}, 403)
        await call(who, "DELETE", f"/conversations/{place}", None, 403)
        await call(who, "DELETE", f"/conversations/{place}/members/me", None, 403)


async def test_what_is_hidden_comes_back_with_its_next_message(person: Make, own: Served) -> None:
    mara, odd = person(), person()
    place = (await mara.make(kind="direct", members=[odd.user]))["id"]
    await mara.post(place)

    async def listed(who: Person) -> bool:
        return place in [one["id"] for one in (await call(who, "GET", "/conversations")).json()["items"]]

    assert await listed(odd)
    for _ in range(2):
        await call(odd, "PATCH", f"/conversations/{place}/members/me", {"hidden": True}, 200)
        assert (await listed(odd), await listed(mara)) == (False, True)
    assert (await call(odd, "GET", f"/conversations/{place}")).json()["my_hidden"] is True
    await mara.post(place, "still there?")
    assert await listed(odd)
    await call(odd, "PATCH", f"/conversations/{place}/members/me", {"hidden": True}, 200)
    await call(odd, "PATCH", f"/conversations/{place}/members/me", {"hidden": False}, 200)
    assert await listed(odd)
    await call(odd, "PATCH", f"/conversations/{place}/members/{mara.user}", {"hidden": True}, 403)
    await call(odd, "PATCH", f"/conversations/{place}/members/me", {}, 422)


async def test_what_was_reported_stays_as_it_was_for_who_judges(person: Make) -> None:
    mara, odd, ines, office = person(), person(), person(), person(scope="nestrel.service")
    place = (await mara.make(members=[odd.user, ines.user]))["id"]
    seq = (await odd.post(place, "the tide table is a lie")).json()["seq"]
    path = f"/conversations/{place}/messages/{seq}/reports"
    made = (await call(ines, "POST", path, {"reason": "rude"}, 201)).json()
    assert (made["state"], made["message"]["body"], made["reported_by"]) == (
        "open",
        "the tide table is a lie",
        ines.user,
    )
    await call(ines, "POST", path, {"reason": "very rude"}, 200)
    await call(person(), "POST", path, {"reason": "x"}, 404)
    await call(ines, "POST", path, {"reason": " "}, 422)
    await call(odd, "POST", path, {"reason": "my own"}, 403)
    await call(ines, "POST", f"/conversations/{place}/messages/99/reports", {"reason": "x"}, 404)
    await call(odd, "PATCH", f"/conversations/{place}/messages/{seq}", {"body": "the tide table is fine"}, 200)
    await call(odd, "DELETE", f"/conversations/{place}/messages/{seq}", None, 200)
    for who in (mara, office):
        items = (await call(who, "GET", f"/reports?conversation_id={place}")).json()["items"]
        assert [(one["reason"], one["message"]["body"]) for one in items] == [("very rude", "the tide table is a lie")]
    for who in (odd, ines, person()):
        assert (await call(who, "GET", "/reports")).json()["items"] == []
        await call(who, "PATCH", f"/reports/{made['report_id']}", {"state": "done"}, 404)
    done = (await call(mara, "PATCH", f"/reports/{made['report_id']}", {"state": "done"}, 200)).json()
    assert (done["state"], done["settled_by"]) == ("done", mara.user)
    assert (await call(mara, "GET", "/reports?state=open")).json()["items"] == []
    await call(mara, "PATCH", f"/reports/{made['report_id']}", {"state": "later"}, 422)


async def test_nobody_closes_reporting_for_others(person: Make) -> None:
    """By reporter and by day; what is settled makes room."""
    mara, odd, ines = person(), person(), person()
    place = (await mara.make(members=[odd.user, ines.user]))["id"]
    await mara.fill(place, limits.REPORTS_A_DAY + 1)
    for seq in range(1, limits.REPORTS_A_DAY + 1):
        await call(odd, "POST", f"/conversations/{place}/messages/{seq}/reports", {"reason": "all of it"}, 201)
    last = f"/conversations/{place}/messages/{limits.REPORTS_A_DAY + 1}/reports"
    over = (await call(odd, "POST", last, {"reason": "one more"}, 403)).json()
    assert (over["type"], over["quota"]) == ("/problems/over-quota", "reports")
    await call(ines, "POST", last, {"reason": "really"}, 201)


async def test_settled_reports_make_room(database: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    place = await make_place(database, mara="owner", odd="writer")
    await Writer(database).submit([Post(place, "mara", f"{n}") for n in range(3)])
    monkeypatch.setitem(reports.REPORT_MAKE.constants, "most", 2)
    odd, mara = Caller("odd"), Caller("mara")
    ids = [uuid4() for _ in range(3)]
    for n in range(2):
        await reports.make(database, odd, place, n + 1, ids[n], "x")
    with pytest.raises(OverQuota):
        await reports.make(database, odd, place, 3, ids[2], "x")
    await reports.settle(database, mara, ids[0], "done")
    await reports.make(database, odd, place, 3, ids[2], "x")


async def test_whom_one_blocks_one_is_not_named_by(person: Make) -> None:
    mara, odd, ines = person(), person(), person()
    place = (await mara.make(members=[odd.user, ines.user]))["id"]
    for who in (mara, ines):
        await who.post(place, "look", mentions=[odd.user])

    async def named() -> int:
        return int((await call(odd, "GET", f"/conversations/{place}")).json()["unread_mentions"])

    assert await named() == 2
    await call(odd, "PUT", f"/me/blocked/{mara.user}", None, 201)
    assert await named() == 1
    await call(odd, "DELETE", f"/me/blocked/{mara.user}", None, 204)
    assert await named() == 2
