"""What happens to a message after it is posted, through HTTP and WebSocket: edits, removals, reactions, receipts."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

import httpx
import pytest

from tests.support import Person, Served, unique

Make = Callable[..., Person]


async def crew(person: Make, kind: str = "group", visibility: str = "closed") -> tuple[str, dict[str, Person]]:
    """A conversation with a member of each role, someone who is none, and message 1 by the owner."""
    people = {role: person(role) for role in ("owner", "moderator", "writer", "reader", "nobody")}
    place = (await people["owner"].make(kind=kind, visibility=visibility))["id"]
    for role in ("moderator", "writer", "reader"):
        answer = await people["owner"].http.put(
            f"/conversations/{place}/members/{people[role].user}", json={"role": role}
        )
        assert answer.status_code == 201
    await people["owner"].post(place, "the Corran berths at 3")
    return place, people


def at(place: str, seq: int = 1, more: str = "") -> str:
    return f"/conversations/{place}/messages/{seq}{more}"


async def test_an_edit_keeps_what_was_written_and_a_stale_one_is_shown_the_present(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    first = (await mara.post(place, "berth 3")).json()
    edited = await mara.http.patch(at(place), json={"body": "berth 4"}, headers={"If-Match": f'"{first["rev"]}"'})
    message = edited.json()
    assert (edited.status_code, message["body"], message["edits"]) == (200, "berth 4", 1)
    assert edited.headers["etag"] == f'"{message["rev"]}"'
    assert message["rev"] > first["rev"]
    assert message["created_at"] == first["created_at"] <= message["edited_at"]

    stale = await mara.http.patch(at(place), json={"body": "berth 5"}, headers={"If-Match": f'"{first["rev"]}"'})
    assert (stale.status_code, stale.json()["type"]) == (412, "/problems/stale-edit")
    assert stale.json()["message"] == message
    assert (await mara.http.patch(at(place), json={"body": "x"}, headers={"If-Match": '"abc"'})).status_code == 412
    assert (await mara.http.patch(at(place), json={"body": "x"}, headers={"If-Match": "12"})).status_code == 422

    same = await mara.http.patch(at(place), json={"body": "berth 4"}, headers={"If-Match": "*"})
    assert same.json() == message
    marked = (await mara.http.patch(at(place), json={"body": "**berth 4**", "format": "markdown"})).json()
    assert (marked["format"], marked["edits"]) == ("markdown", 2)

    page = (await mara.http.get(at(place, 1, "/edits"), params={"limit": 1})).json()
    assert [(one["n"], one["body"], one["edited_by"]) for one in page["items"]] == [(1, "berth 3", mara.user)]
    assert page["items"][0]["created_at"] == first["created_at"]
    assert page["items"][0]["edited_at"] == message["edited_at"]
    rest = (await mara.http.get(at(place, 1, "/edits"), params={"cursor": page["next"]})).json()
    assert ([one["body"] for one in rest["items"]], rest["next"]) == (["berth 4"], None)
    assert mara.user in rest["profiles"]


async def test_edits_that_race_keep_every_body_once_and_one_of_two_with_the_same_rev_wins(person: Make) -> None:
    mara = person()
    place = (await mara.make())["id"]
    rev = (await mara.post(place, "0")).json()["rev"]
    answers = await asyncio.gather(
        *(mara.http.patch(at(place), json={"body": f"{n}"}, headers={"If-Match": f'"{rev}"'}) for n in range(1, 6))
    )
    assert sorted(answer.status_code for answer in answers) == [200, 412, 412, 412, 412]
    await asyncio.gather(*(mara.http.patch(at(place), json={"body": f"b{n}"}) for n in range(8)))
    message = (await mara.http.get(at(place))).json()
    earlier = [one["body"] for one in (await mara.http.get(at(place, 1, "/edits"))).json()["items"]]
    assert message["edits"] == len(earlier) == 9
    assert sorted([*earlier[2:], message["body"]]) == [f"b{n}" for n in range(8)]


async def test_a_removed_message_is_a_tombstone_for_good_and_its_content_is_nowhere(person: Make) -> None:
    place, people = await crew(person)
    owner, writer, reader = people["owner"], people["writer"], people["reader"]
    posted = (await writer.post(place, "lost: a red glove", key="glove", attributes={"shelf": 7})).json()
    await writer.http.patch(at(place, 2), json={"body": "lost: a red mitten"})
    await reader.http.put(at(place, 2, "/reactions/like"))
    async with reader.socket() as wire:
        await wire.command(type="follow", conversation_id=place)
        assert (await people["reader"].http.delete(at(place, 2))).status_code == 403
        gone = await people["moderator"].http.delete(at(place, 2))
        assert gone.status_code == 200
        tombstone = gone.json()
        assert (await wire.messages(1)) == [tombstone]
    assert (tombstone["seq"], tombstone["body"], tombstone["removed_by"]) == (2, "", people["moderator"].user)
    assert tombstone["removed_at"] is not None
    assert (tombstone["attributes"], tombstone["reactions"], tombstone["edits"]) == ({}, [], 0)
    assert tombstone["created_at"] == posted["created_at"]
    again = await owner.http.delete(at(place, 2))
    assert (again.status_code, again.json()) == (200, tombstone)
    assert (await writer.page(place))["items"][0] == tombstone
    assert (await writer.http.get(at(place, 2, "/edits"))).json()["items"] == []
    assert (await writer.http.get(at(place, 2, "/reactions"))).json()["items"] == []
    assert (await writer.http.patch(at(place, 2), json={"body": "back"})).status_code == 403
    assert (await reader.http.put(at(place, 2, "/reactions/like"))).status_code == 403
    repeated = await writer.post(place, "lost: a red glove", key="glove", attributes={"shelf": 7})
    assert (repeated.status_code, repeated.json()) == (200, tombstone)


async def test_a_removal_that_races_with_an_edit_and_a_like_leaves_nothing_behind(person: Make) -> None:
    place, people = await crew(person)
    owner = people["owner"]
    for seq in range(2, 12):
        await owner.post(place, f"m{seq}")
        _, removed, *_ = await asyncio.gather(
            owner.http.patch(at(place, seq), json={"body": "changed"}),
            owner.http.delete(at(place, seq)),
            people["reader"].http.put(at(place, seq, "/reactions/like")),
            people["writer"].http.put(at(place, seq, "/reactions/%E2%9A%93")),
        )
        assert removed.status_code == 200, removed.text
        message = (await owner.http.get(at(place, seq))).json()
        assert (message["body"], message["edits"], message["reactions"]) == ("", 0, [])
        assert (await owner.http.get(at(place, seq, "/reactions"))).json()["items"] == []


@pytest.mark.parametrize(
    ("symbol", "kept"),
    [
        ("like", "like"), ("👍", "👍"), ("❤", "❤️"), ("❤️", "❤️"), ("👩‍🚀", "👩‍🚀"), ("🇳🇴", "🇳🇴"),
        ("1️⃣", "1️⃣"), ("👍🏽", "👍🏽"),
        ("likes", None), ("x", None), ("1", None), ("👍👍", None), ("👍 ", None), ("🇳", None), ("LIKE", None),
    ],
)  # fmt: skip
async def test_a_symbol_is_like_or_one_emoji(person: Make, symbol: str, kept: str | None) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.post(place)
    answer = await mara.http.put(httpx.URL(at(place) + "/reactions/" + "".join(f"%{b:02X}" for b in symbol.encode())))
    if kept is None:
        assert (answer.status_code, answer.json()["errors"][0]["pointer"]) == (422, "/symbol")
    else:
        assert answer.json()["reactions"] == [{"symbol": kept, "count": 1, "by": [mara.user]}]


async def test_likes_are_counted_once_under_races_and_listed_and_limited(person: Make) -> None:
    people = [person("p") for _ in range(6)]
    place = (await people[0].make(members=[who.user for who in people[1:]]))["id"]
    await people[0].post(place)
    like = at(place, 1, "/reactions/like")
    for _ in range(3):
        calls = [who.http.put(like) for who in people] + [who.http.delete(like) for who in people[:2]]
        assert {answer.status_code for answer in await asyncio.gather(*calls)} == {200}
    message = (await people[0].http.get(at(place))).json()
    listed = (await people[0].http.get(at(place, 1, "/reactions"), params={"symbol": "like"})).json()
    users = [one["user_id"] for one in listed["items"]]
    assert message["reactions"][0]["count"] == len(users) == len(set(users))
    assert message["reactions"][0]["by"] == users
    assert {who.user for who in people[2:]} <= set(users)

    before = (await people[2].http.put(like)).json()
    assert (await people[2].http.put(like)).json()["rev"] == before["rev"]
    for who in people:
        after = (await who.http.delete(like)).json()
    assert after["reactions"] == []
    assert (await people[2].http.delete(like)).json()["rev"] == after["rev"]

    emoji = [chr(0x1F680 + n) for n in range(21)]
    answers = [await people[0].http.put(f"{at(place)}/reactions/{symbol}") for symbol in emoji]
    assert [answer.status_code for answer in answers] == [200] * 20 + [422]
    assert (await people[1].http.put(f"{at(place)}/reactions/{emoji[0]}")).status_code == 200
    first = (await people[0].http.get(at(place, 1, "/reactions"), params={"limit": 15})).json()
    rest = (await people[0].http.get(at(place, 1, "/reactions"), params={"cursor": first["next"]})).json()
    assert (len(first["items"]), len(rest["items"]), rest["next"]) == (15, 6, None)


async def test_a_receipt_only_grows_whichever_device_it_comes_from(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    await mara.fill(place, 6)
    await odd.post(place, "my own does not count")

    async def read(who: Person, seq: int) -> dict[str, Any]:
        answer = await who.http.put(f"/conversations/{place}/receipt", json={"read_seq": seq})
        assert answer.status_code == 200, answer.text
        return dict(answer.json())

    assert (await odd.http.get(f"/conversations/{place}")).json()["unread"] == 6
    assert await read(odd, 4) == {"read_seq": 4, "unread": 2}
    assert await read(odd, 2) == {"read_seq": 4, "unread": 2}
    await mara.http.delete(at(place, 6))
    assert await read(odd, 0) == {"read_seq": 4, "unread": 1}
    above = await odd.http.put(f"/conversations/{place}/receipt", json={"read_seq": 8})
    assert (above.status_code, above.json()["errors"][0]["pointer"]) == (422, "/read_seq")
    async with odd.socket() as phone, odd.socket() as desk, mara.socket() as watch:
        await watch.command(type="follow", conversation_id=place)
        answers = await asyncio.gather(
            phone.command(type="read", conversation_id=place, read_seq=5),
            desk.command(type="read", conversation_id=place, read_seq=7),
        )
        assert max(answer["read_seq"] for answer in answers) == 7
        seen = 0
        while seen < 7:
            frame = await watch.get()
            assert [(row["user_id"], row["read_seq"] > seen) for row in frame["members"]] == [(odd.user, True)]
            seen = frame["members"][0]["read_seq"]
    readers = (await mara.http.get(at(place, 7, "/readers"))).json()
    assert [one["user_id"] for one in readers["items"]] == [odd.user]
    assert readers["items"][0]["read_at"] is not None
    assert (await mara.http.get(f"/conversations/{place}")).json()["unread"] == 1


ALL = {"owner", "moderator", "writer", "reader"}
MAY: dict[str, dict[str, set[str]]] = {
    "group": {
        "edit": {"owner"}, "edit_own": {"owner", "moderator", "writer"}, "remove": {"owner", "moderator"},
        "remove_own": {"owner", "moderator", "writer"}, "react": ALL, "read": ALL,
    },
    "bulletin": {
        "edit": {"owner"}, "edit_own": {"owner", "moderator"}, "remove": {"owner", "moderator"},
        "remove_own": {"owner", "moderator"}, "react": ALL, "read": ALL,
    },
}  # fmt: skip


@pytest.mark.parametrize("visibility", ["open", "closed"])
@pytest.mark.parametrize("kind", ["group", "bulletin"])
async def test_who_may_do_what_through_both_doors(person: Make, kind: str, visibility: str) -> None:
    place, people = await crew(person, kind, visibility)
    own: dict[str, int] = {}
    for role, who in people.items():
        answer = await who.post(place, f"by {role}")
        if answer.status_code == 201:
            own[role] = answer.json()["seq"]
    for role, who in people.items():
        outside = role == "nobody"
        refused = 404 if outside and visibility == "closed" else 403
        wanted = {action: 200 if role in allowed else refused for action, allowed in MAY[kind].items()}
        got = {
            "edit": await who.http.patch(at(place), json={"body": "the Corran berths at 3"}),
            "react": await who.http.put(at(place, 1, "/reactions/like")),
            "read": await who.http.put(f"/conversations/{place}/receipt", json={"read_seq": 1}),
        }
        if role in own:
            got["edit_own"] = await who.http.patch(at(place, own[role]), json={"body": "changed"})
        async with who.socket() as wire:
            target = {"conversation_id": place, "seq": 1}
            for action, frame in {
                "edit": {"type": "edit", "body": "the Corran berths at 3", **target},
                "react": {"type": "unreact", "symbol": "like", **target},
                "read": {"type": "read", "conversation_id": place, "read_seq": 1},
            }.items():
                said = await wire.command(**frame)
                status = said["problem"]["status"] if said["type"] == "refused" else 200
                assert (role, action, status) == (role, action, wanted[action])
        if role in own:
            got["remove_own"] = await who.http.delete(at(place, own[role]))
        if role != "owner":
            spare = (await people["owner"].post(place, "spare")).json()["seq"]
            got["remove"] = await who.http.delete(at(place, spare))
        for action, answer in got.items():
            assert (role, action, answer.status_code) == (role, action, wanted[action])


@pytest.mark.parametrize(
    ("method", "path", "body", "status"),
    [
        ("PATCH", "/messages/1", {"body": ""}, 422), ("PATCH", "/messages/1", {"body": "x" * 8001}, 413),
        ("PATCH", "/messages/1", {"body": "x", "seq": 2}, 422), ("PATCH", "/messages/1", {"format": "plain"}, 422),
        ("PATCH", "/messages/1", {"body": "x", "format": "html"}, 422), ("PATCH", "/messages/9", {"body": "x"}, 404),
        ("PATCH", "/messages/0", {"body": "x"}, 404), ("PATCH", "/messages/x", {"body": "x"}, 422),
        ("DELETE", "/messages/9", None, 404), ("DELETE", f"/messages/{2**53}", None, 422),
        ("PUT", "/messages/9/reactions/like", None, 404), ("DELETE", "/messages/1/reactions/no", None, 422),
        ("GET", "/messages/9/readers", None, 404), ("GET", "/messages/9/edits", None, 404),
        ("GET", "/messages/1/edits?cursor=x", None, 422), ("GET", "/messages/1/reactions?symbol=no", None, 422),
        ("PUT", "/receipt", {"read_seq": -1}, 422), ("PUT", "/receipt", {"read_seq": "1"}, 422),
        ("PUT", "/receipt", {}, 422), ("PUT", "/receipt", {"read_seq": 2**53}, 422),
    ],
)  # fmt: skip
async def test_bad_input_is_refused_clearly(
    person: Make, method: str, path: str, body: dict[str, Any] | None, status: int
) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.post(place)
    answer = await mara.http.request(method, f"/conversations/{place}{path}", json=body)
    assert answer.status_code == status, answer.text
    assert answer.json()["detail"]
    assert (await mara.http.get(at(place))).json()["body"] == "hello"


async def test_every_change_is_live_and_costs_the_absent_one_row(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    await mara.fill(place, 3)
    page = await odd.page(place)
    cursor, rev = page["change_cursor"], page["items"][1]["rev"]
    async with mara.socket() as wire, odd.socket() as watch:
        await watch.command(type="follow", conversation_id=place)
        frame = await wire.command(type="edit", conversation_id=place, seq=2, body="edited", rev=rev)
        assert frame["type"] == "done", frame
        for n in range(20):
            frame = await wire.command(type="edit", conversation_id=place, seq=2, body=f"edited {n}")
        stale = await wire.command(type="edit", conversation_id=place, seq=2, body="late", rev=rev)
        assert (stale["problem"]["type"], stale["problem"]["message"]) == ("/problems/stale-edit", frame["message"])
        liked = await wire.command(type="react", conversation_id=place, seq=2, symbol="like")
        removed = await wire.command(type="remove", conversation_id=place, seq=1)
        receipt = await wire.command(type="read", conversation_id=place, read_seq=3)
        assert (receipt["read_seq"], receipt["unread"]) == (3, 0)
        last: dict[int, Any] = {}
        while 1 not in last:
            for message in (await watch.get())["messages"]:
                last[message["seq"]] = message
        assert last == {1: removed["message"], 2: liked["message"]}
    missed = (await odd.http.get(f"/conversations/{place}/changes", params={"cursor": cursor})).json()
    assert [message["seq"] for message in missed["messages"]] == [2, 1]
    assert missed["messages"] == [liked["message"], removed["message"]]
    assert [(row["user_id"], row["read_seq"]) for row in missed["members"]] == [(mara.user, 3)]
    assert missed["more"] is False


def test_after_the_edit_window_a_message_stands_as_it_is(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_EDIT_WINDOW="PT0.000001S") as served:
        served.wait_ready()
        headers = {"Authorization": f"Bearer {Person(served.url, unique('mara')).token}"}
        with httpx.Client(base_url=served.url + "/v1", headers=headers) as http:
            place = http.post("/conversations", json={}).json()["id"]
            http.post(f"/conversations/{place}/messages", json={"body": "as it is"})
            late = http.patch(at(place), json={"body": "otherwise"})
            assert (late.status_code, late.json()["type"]) == (403, "/problems/forbidden")
            assert "can be edited for" in late.json()["detail"]
            assert http.patch(at(place), json={"body": "as it is"}).status_code == 200
            assert http.delete(at(place)).json()["body"] == ""
