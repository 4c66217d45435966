"""Suspension and sign-out, wherever somebody is connected; and the audit of every act over others."""

from __future__ import annotations

import asyncio
import json
import os
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

import asyncpg
import httpx
import jwt
import pytest
from sqlalchemy.engine import make_url

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.conversations import NewConversation
from nestrel.core.problems import Forbidden, Unauthenticated
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.rights import Action
from nestrel.core.roles import Kind, Role, Visibility
from nestrel.demo.pushes import Device
from nestrel.store.database import Database
from nestrel.store.write import audit, barring, conversations, invitations, members, subscriptions
from nestrel.store.write.subscriptions import Subscription
from tests import hostile
from tests.support import PATIENCE, SECRET, Person, Served, call, make_place, once, unique, until

Make = Callable[..., Person]


async def closed_with(wire: Any) -> int:
    """The code with which a connection ends."""
    await asyncio.wait_for(wire.raw.wait_closed(), 60)
    code: int = wire.raw.close_code
    return code


async def test_whom_the_backend_suspends_is_out_everywhere_until_let_in(make_database: Callable[[], str]) -> None:
    """On every process: requests, sockets, streams and those that wait."""
    database = make_database()
    with Served(database) as one, Served(database) as two:
        office = Person(one.wait_ready().url, "office", scope="nestrel.service")
        odd = {served: Person(served.wait_ready().url, "odd") for served in (one, two)}
        place = (await odd[one].make())["id"]
        cursor = (await call(odd[two], "GET", f"/conversations/{place}/changes")).json()["cursor"]
        sent = (await odd[one].upload(place, b"berth plan")).json()["attachment_id"]
        link = (await call(odd[one], "POST", f"/conversations/{place}/attachments/{sent}/link", {}, 201)).json()["url"]
        assert httpx.get(link).status_code == 200
        waiting = asyncio.ensure_future(
            odd[two].http.get(f"/conversations/{place}/changes", params={"cursor": cursor, "wait": 30})
        )

        async def stream() -> None:
            async with odd[two].http.stream("GET", "/stream") as answer:
                assert answer.status_code == 200
                async for _ in answer.aiter_lines():
                    pass

        streaming = asyncio.ensure_future(stream())
        async with odd[one].socket() as first, odd[two].socket(header=True) as second:
            kept = (await call(office, "PUT", "/people/odd/suspension", {"reason": "fog horn"}, 201)).json()
            assert (kept["user_id"], kept["until"], kept["suspended_by"]) == ("odd", None, "office")
            assert [await closed_with(first), await closed_with(second)] == [4403, 4403]
        assert (await waiting).status_code == 403
        await asyncio.wait_for(streaming, 60)
        assert httpx.get(link).status_code == 404  # nor does what they have made work any more
        for who in odd.values():
            for method, path in (("GET", "/me"), ("GET", f"/conversations/{place}"), ("POST", "/resync")):
                assert (await call(who, method, path, {} if method == "POST" else None)).json()["status"] == 403
        await call(office, "PUT", "/people/odd/suspension", {}, 200)
        await call(office, "PUT", "/people/office/suspension", {}, 422)
        for _ in range(2):
            await call(office, "DELETE", "/people/odd/suspension", None, 204)
        for who in odd.values():
            until(lambda who=who: httpx.get(f"{who.url}/v1/me", headers=who.http.headers).status_code == 200)  # type: ignore[misc]  # bound at once
        await call(odd[one], "PUT", "/people/office/suspension", {}, 403)


async def held_back(who: Person, method: str, path: str, body: bytes, kind: str = "application/json") -> hostile.Raw:
    """A request of which the last byte does not come."""
    raw = hostile.Raw(*await asyncio.open_connection("127.0.0.1", int(who.url.rpartition(":")[2])))
    head = (
        f"{method} /v1{path} HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer {who.token}\r\n"
        f"Content-Type: {kind}\r\nContent-Length: {len(body)}\r\n\r\n"
    )
    await raw.say(head, body[:-1])
    return raw


@pytest.mark.parametrize("how", ["sign-out", "suspension"])
async def test_a_request_that_is_still_coming_ends_with_its_callers_right_to_be_here(
    make_database: Callable[[], str], how: str
) -> None:
    """On the process that is told and on another one: nothing of it is carried out, and nobody waits for the rest."""
    url = make_database()
    with Served(url) as one, Served(url) as two:
        office = Person(one.wait_ready().url, "office", scope="nestrel.service")
        two.wait_ready()
        for served in (one, two):
            user = unique("odd")
            odd, kaz = Person(served.url, user), Person(served.url, unique("kaz"))
            place = (await odd.make(name=unique("berths")))["id"]
            at = f"/conversations/{place}"
            device = Device(unique("handset"), os.urandom(16)).subscription("https://push.example")
            rows = [
                await held_back(odd, "PUT", "/me/push-subscriptions", json.dumps(device).encode()),
                await held_back(odd, "POST", "/conversations", b'{"title": "late"}'),
                await held_back(odd, "POST", f"{at}/messages", b'{"body": "late"}'),
                await held_back(odd, "POST", f"{at}/messages/batch", b'{"messages": [{"key": "1", "body": "late"}]}'),
                await held_back(odd, "PUT", f"{at}/members/{kaz.user}", b'{"role": "owner"}'),
                await held_back(odd, "POST", f"{at}/invitations", b"{}"),
                await held_back(odd, "POST", f"{at}/attachments", b"late", "text/plain"),
            ]
            before = await _state(url, user, place)
            if how == "sign-out":
                await call(office, "POST", f"/people/{user}/sign-out", None, 200)
            else:
                await call(office, "PUT", f"/people/{user}/suspension", {}, 201)
            expected = 401 if how == "sign-out" else 403
            assert [await raw.status() for raw in rows] == [expected] * len(rows)
            for raw in rows:
                raw.close()
            assert await _state(url, user, place) == before


async def _state(url: str, user: str, place: str) -> list[Any]:
    """What such requests would have left."""
    asked = (
        "SELECT count(*) FROM nestrel.push_subscriptions WHERE user_id = $1",
        "SELECT count(*) FROM nestrel.conversations WHERE created_by = $1",
        "SELECT count(*) FROM nestrel.attachments WHERE uploader_id = $1",
        "SELECT head FROM nestrel.conversations WHERE id = $2::uuid AND created_by = $1",
        "SELECT count(*) FROM nestrel.members WHERE conversation_id = $2::uuid AND user_id <> $1",
        "SELECT count(*) FROM nestrel.invitations WHERE conversation_id = $2::uuid AND created_by = $1",
    )
    raw = await asyncpg.connect(make_url(url).render_as_string(hide_password=False))
    try:
        return [await raw.fetchval(one, *([user, place] if "$2" in one else [user])) for one in asked]
    finally:
        await raw.close()


async def test_what_is_still_being_read_ends_with_its_readers_right_to_be_here(own: Served) -> None:
    """A download and an export of which nobody has taken the end."""
    office, odd = Person(own.url, "office", scope="nestrel.service"), Person(own.url, "odd")
    place = (await odd.make())["id"]
    sent = (await odd.upload(place, os.urandom(20_000_000))).json()["attachment_id"]
    for _ in range(10):
        messages = [{"key": os.urandom(8).hex(), "body": "⚓" * 8_000} for _ in range(50)]
        await call(odd, "POST", f"/conversations/{place}/messages/batch", {"messages": messages}, 200)
    rows = []
    for path in (f"attachments/{sent}", "export"):
        raw = await hostile.Raw.open(own)
        await raw.say(
            f"GET /v1/conversations/{place}/{path} HTTP/1.1\r\nHost: 127.0.0.1\r\n"
            f"Authorization: Bearer {odd.token}\r\n\r\n"
        )
        assert await raw.status() == 200
        rows.append(raw)
    await call(office, "POST", f"/people/{odd.user}/sign-out", None, 200)
    for raw in rows:
        with pytest.raises((ConnectionError, asyncio.IncompleteReadError)):
            await asyncio.wait_for(raw.reader.readexactly(11_000_000), PATIENCE)
        raw.close()


async def test_a_transaction_asks_again_whose_it_is(database: Database) -> None:
    """Whatever time has passed since the request was let in: under the lock, nobody writes who is out by then."""
    backend = Caller("office", service=True)
    place = await make_place(database, mara="owner")
    mara = Caller("mara", actions=frozenset(Action), issued_at=1.0)
    device = Subscription(uuid4(), "mara", "https://push.example/d", b"p", b"a", None, datetime.now(UTC))
    new = NewConversation(
        uuid4(), Kind.GROUP, Visibility.CLOSED, None, "", None, None, "mara", datetime.now(UTC), [("mara", Role.OWNER)]
    )
    acts: list[Callable[[], Awaitable[object]]] = [
        lambda: conversations.make(database, new, mara, DEFAULT_QUOTAS),
        lambda: conversations.change(database, mara, place, {"title": "late"}),
        lambda: members.put(database, mara, place, "odd", Role.OWNER, DEFAULT_QUOTAS),
        lambda: invitations.make(database, mara, place, uuid4(), b"h", None, None, None),
        lambda: subscriptions.put(database, mara, device),
    ]
    await barring.sign_out(database, backend, "mara")
    for act in acts:
        with pytest.raises(Unauthenticated):
            await act()
    await barring.suspend(database, backend, "mara", None, None)
    for act in acts:
        with pytest.raises(Forbidden, match="suspended"):
            await act()


async def test_a_sign_out_ends_the_tokens_of_before_and_no_later_ones(person: Make) -> None:
    office = person(scope="nestrel.service")
    now = int(datetime.now(UTC).timestamp())
    user = unique("odd")
    old, later, never = (Person(office.url, user) for _ in range(3))
    for who, issued in ((later, {"iat": now + 3600}), (never, {})):
        who.token = jwt.encode({"sub": user, "exp": now + 9_000, **issued}, SECRET, "HS256")
        who.http.headers["Authorization"] = f"Bearer {who.token}"
    await call(old, "GET", "/me", None, 200)
    async with old.socket() as wire, later.socket() as other:
        ended = (await call(office, "POST", f"/people/{user}/sign-out", None, 200)).json()
        assert ended["not_before"].endswith(".000000Z")
        assert await closed_with(wire) == 4401
        await call(old, "GET", "/me", None, 401)
        await call(never, "GET", "/me", None, 401)
        await call(later, "GET", "/me", None, 200)
        assert (await other.command(type="ping"))["type"] == "done"


async def test_the_audit_has_every_act_over_others(own: Served) -> None:
    office, mara, odd = (
        Person(own.url, name, **claims)
        for name, claims in (("office", {"scope": "nestrel.service"}), ("mara", {}), ("odd", {}))
    )
    place = (await mara.make(title="Quay", members=["odd", "petra"]))["id"]
    here = f"/conversations/{place}"
    first = (await odd.post(place, "a word of odd's")).json()["seq"]
    steps: list[tuple[Person, str, str, Any]] = [
        (mara, "PUT", f"{here}/members/ines", {}),
        (mara, "PATCH", f"{here}/members/odd", {"role": "moderator"}),
        (odd, "DELETE", f"{here}/members/ines", None),
        (odd, "PUT", f"{here}/kept-out/ines", {"reason": "a reason of odd's"}),
        (odd, "DELETE", f"{here}/kept-out/ines", None),
        (mara, "POST", f"{here}/invitations", {"uses": 2}),
        (mara, "PATCH", here, {"title": "Berth", "post_interval": 5}),
        (mara, "PUT", f"{here}/retention", {"keep_last": 50, "then": "discard"}),
        (mara, "DELETE", f"{here}/messages/{first}", None),
        (office, "PUT", "/people/petra/suspension", {"reason": "fog"}),
        (office, "DELETE", "/people/petra/suspension", None),
        (office, "POST", "/people/petra/sign-out", None),
        (mara, "DELETE", f"{here}/retention", None),
        (office, "PUT", f"{here}/members/me", {"role": "owner"}),
        (office, "GET", f"{here}/export", None),
        (office, "GET", "/export", None),
    ]
    for who, method, path, body in steps:
        answer = await who.http.request(
            method, path, json=body, headers={"X-Request-ID": f"r-{steps.index((who, method, path, body))}"}
        )
        assert answer.status_code < 300, answer.text
    line = {"author_id": "odd", "created_at": "2026-01-01T00:00:00Z", "key": "i", "body": "brought"}
    aboard = (await call(office, "POST", "/conversations", {"title": "Aboard", "members": ["mara"]}, 201)).json()["id"]
    there = f"/conversations/{aboard}"
    answer = await office.http.post(f"{there}/import", content=json.dumps(line))
    assert answer.status_code == 200, answer.text
    token = (await call(office, "POST", f"{there}/invitations", {"role": "moderator"}, 201)).json()["token"]
    await call(odd, "POST", f"/invitations/{token}/accept", None, 200)
    for n in range(3):  # each by another way of the write path
        posted = await office.post(place, f"spoken for {n}", on_behalf_of="odd", key=f"b{n}")
        assert posted.status_code == 201
    await office.post(place, "spoken for 0", on_behalf_of="odd", key="b0")  # a repeat is no act
    batch = {"messages": [{"key": f"c{n}", "body": f"{n}", "on_behalf_of": "odd"} for n in range(2)]}
    await call(office, "POST", f"{here}/messages/batch", batch, 200)
    await call(odd, "DELETE", f"{here}/members/me", None, 204)  # leaving is nobody's act over others
    await call(mara, "DELETE", here, None, 204)
    found: list[dict[str, Any]] = []
    cursor = None
    while True:
        page = (await call(office, "GET", "/audit?limit=7" + (f"&cursor={cursor}" if cursor else ""))).json()
        found += page["items"]
        if (cursor := page["next"]) is None:
            break
    counted = [one for one in found if one["act"] == "posted-for"]
    found = [one for one in found if one["act"] != "posted-for"]
    acts = [(one["actor"], one["act"], one["user_id"], one["seq"]) for one in reversed(found)]
    assert acts == [
        ("mara", "member-added", "ines", None), ("mara", "member-role", "odd", None),
        ("odd", "member-removed", "ines", None), ("odd", "kept-out", "ines", None), ("odd", "let-in", "ines", None),
        ("mara", "invited", None, None), ("mara", "conversation-changed", None, None), ("mara", "rule-set", None, None),
        ("mara", "message-removed", "odd", first), ("office", "suspended", "petra", None),
        ("office", "suspension-ended", "petra", None), ("office", "signed-out", "petra", None),
        ("mara", "rule-cleared", None, None), ("office", "member-added", "office", None),
        ("office", "exported", None, None),  # of everything; of a conversation that it is in it is nobody's business
        ("office", "conversation-made", None, None), ("office", "imported", None, None),
        ("office", "invited", None, None), ("odd", "invitation-accepted", "office", None),
        ("mara", "conversation-closed", None, None),
    ]  # fmt: skip
    # Posts for somebody are counted, a row for each hour; an hour may have ended meanwhile.
    assert counted[0]["seq"] == 6
    assert sum(one["after"]["count"] for one in counted) == 5
    assert {(one["actor"], one["user_id"], one["at"][14:19]) for one in counted} == {("office", "odd", "00:00")}
    since = (datetime.now(UTC) - timedelta(minutes=5)).isoformat()
    late = (await office.http.get("/audit", params={"from": since})).json()["items"]
    assert counted[0] in late
    assert [one["request_id"] for one in reversed(found)][:3] == ["r-0", "r-1", "r-2"]
    assert len({one["own_request_id"] for one in found}) == len(found)
    assert {one["own_request_id"] for one in found}.isdisjoint({one["request_id"] for one in found[-3:]} | {None})
    assert found[-4]["reason"] == "a reason of odd's"
    assert (found[-2]["text"], found[0]["text"]) == ("writer → moderator", "")
    assert found[-2]["before"] == {"role": "writer"}
    assert "Berth" not in str(found)
    assert "a word of" not in str(found)
    some = (await call(office, "GET", f"/audit?actor=odd&conversation_id={place}")).json()["items"]
    assert [one["act"] for one in some] == ["let-in", "kept-out", "member-removed"]
    await call(mara, "GET", "/audit", None, 403)


async def test_nothing_changes_what_the_audit_says(database: Database, stranger: asyncpg.Connection[Any]) -> None:
    async with database.write() as connection:
        await audit.record(connection, Caller("mara"), Act.KEPT_OUT, user_id="odd", reason="fog")
    for statement in ("UPDATE nestrel.audit SET actor = 'odd'", "DELETE FROM nestrel.audit"):
        with pytest.raises(asyncpg.InsufficientPrivilegeError):
            await stranger.execute(statement)
    assert await stranger.fetchval("SELECT count(*) FROM nestrel.audit WHERE actor = 'mara'") == 1
    months = await stranger.fetchval("SELECT count(*) FROM pg_inherits WHERE inhparent = 'nestrel.audit'::regclass")
    assert months >= 13


async def test_what_somebody_made_ends_with_their_right_to_be_here(own: Served) -> None:
    """Links and invitations: after a sign-out, and in a suspension; they do not come back, and a later one holds."""
    office = Person(own.url, "office", scope="nestrel.service")
    for how, path in (("POST", "sign-out"), ("PUT", "suspension")):
        mara, odd = Person(own.url, unique("mara")), Person(own.url, unique("odd"))
        place = (await mara.make(members=[]))["id"]
        here = f"/conversations/{place}"
        sent = (await mara.upload(place, b"berth plan")).json()["attachment_id"]
        link = (await call(mara, "POST", f"{here}/attachments/{sent}/link", {}, 201)).json()["url"]
        token = (await call(mara, "POST", f"{here}/invitations", {}, 201)).json()["token"]
        assert httpx.get(link).status_code == 200
        await call(odd, "GET", f"/invitations/{token}", None, 200)
        answer = await office.http.request(how, f"/people/{mara.user}/{path}", json={} if how == "PUT" else None)
        assert answer.status_code in (200, 201)
        assert httpx.get(link).status_code == 404
        for _ in range(2):
            await call(odd, "GET", f"/invitations/{token}", None, 404)
            await call(odd, "POST", f"/invitations/{token}/accept", None, 404)
            if how == "PUT":
                await call(office, "DELETE", f"/people/{mara.user}/suspension", None, 204)
        again, soon = Person(own.url, mara.user), int(datetime.now(UTC).timestamp())
        claims = {"sub": mara.user, "iat": soon + 5, "exp": soon + 600}
        again.http.headers["Authorization"] = f"Bearer {jwt.encode(claims, SECRET, 'HS256')}"

        async def let_in(again: Person = again, odd: Person = odd, here: str = here) -> int:
            token = (await call(again, "POST", f"{here}/invitations", {}, 201)).json()["token"]
            return (await call(odd, "POST", f"/invitations/{token}/accept")).status_code

        await once(let_in, lambda status: status == 200)  # a sign-out ends what was made in its second, too


async def test_the_invitations_of_whoever_is_erased_are_gone(own: Served) -> None:
    office, mara, odd = (
        Person(own.url, unique(name), **claims)
        for name, claims in (("office", {"scope": "nestrel.service"}), ("mara", {}), ("odd", {}))
    )
    place = (await mara.make())["id"]
    token = (await call(mara, "POST", f"/conversations/{place}/invitations", {}, 201)).json()["token"]
    await call(office, "POST", "/erasures", {"user_id": mara.user, "confirm": True}, 201)
    until(lambda: httpx.get(f"{own.url}/v1/invitations/{token}", headers=odd.http.headers).status_code == 404)
