"""Who is told of a message while they are not here: what they want, and what holds at the moment of sending. Through a
webhook of notices, which gets what would be pushed."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from nestrel.client import AsyncClient, FollowState, LiveConversation
from nestrel.client.follow import Follow
from nestrel.core.times import format_time
from tests.receiver import Receiver, receiver, status
from tests.support import Person, Served, Wire, call, once, unique


@pytest.fixture
async def served(url: str) -> AsyncIterator[Served]:
    with Served(url, NESTREL_PUBLIC_URL="https://chat.example", NESTREL_HOSTS="127.0.0.1") as made:
        yield made.wait_ready()


async def told(to: Receiver, enough: Callable[[list[dict[str, Any]]], bool]) -> list[dict[str, Any]]:
    """The notices that have come, once they are enough."""

    def notices(it: Receiver) -> list[dict[str, Any]]:
        return [item for one in it.got if one.json["type"] == "notices" for item in one.json["data"]["items"]]

    await to.has(lambda it: enough(notices(it)))
    return notices(to)


def people(served: Served, *names: str) -> list[Person]:
    return [Person(served.url, unique(name), name=name.title()) for name in names]


def office_of(served: Served) -> Person:
    return Person(served.url, unique("office"), scope="nestrel.service")


async def hook(office: Person, to: Receiver, **fields: Any) -> str:
    made = await call(office, "POST", "/webhooks", {"url": to.url, "type": "notices", **fields}, 201)
    id_: str = made.json()["webhook_id"]
    return id_


def seqs(notices: list[dict[str, Any]], place: str, user: str) -> list[int]:
    return [one["seq"] for one in notices if one["conversation_id"] == place and one["user_id"] == user]


async def test_each_says_what_they_want_and_nobody_else_sees_it(served: Served) -> None:
    mara, odd, kaz = people(served, "mara", "odd", "kaz")
    group = (await mara.make(title="Berth 4", members=[odd.user]))["id"]
    pair = (await mara.make(kind="direct", members=[odd.user]))["id"]
    board = (await mara.make(kind="bulletin", members=[odd.user]))["id"]
    for place, by_itself in ((group, "mentions"), (pair, "all"), (board, "all")):
        shown = (await odd.http.get(f"/conversations/{place}")).json()
        assert (shown["my_notify"], shown["my_notify_after"]) == (by_itself, None)
    before = (await odd.http.get(f"/conversations/{group}")).json()
    morning = format_time(datetime.now(UTC) + timedelta(hours=8))
    own = f"/conversations/{group}/members/me"
    member = (await call(odd, "PATCH", own, {"notify": "all"}, 200)).json()
    await call(odd, "PATCH", own, {"notify_after": morning}, 200)
    listed = (await odd.http.get("/conversations", params={"scope": "mine"})).json()["items"]
    [shown] = [one for one in listed if one["id"] == group]
    assert (shown["my_notify"], shown["my_notify_after"]) == ("all", morning)
    assert shown["rev"] == before["rev"]
    assert not {"notify", "notify_after"} & member.keys()
    others = (await mara.http.get(f"/conversations/{group}")).json()
    assert (others["my_notify"], others["my_notify_after"]) == ("mentions", None)
    changes = (await odd.http.get(f"/conversations/{group}/changes")).json()
    assert changes["conversation"]["my_notify"] is None
    await call(odd, "PATCH", own, {"notify_after": None}, 200)
    shown = (await odd.http.get(f"/conversations/{group}")).json()
    assert (shown["my_notify"], shown["my_notify_after"]) == ("all", None)
    for wrong in (
        {"notify": "some"},
        {"notify": "all", "role": "reader"},
        {"notify_after": "soon"},
        {"notify": None},
        {},
    ):
        await call(odd, "PATCH", own, wrong, 422)
    await call(odd, "PATCH", f"/conversations/{group}/members/{mara.user}", {"notify": "none"}, 403)
    await call(kaz, "PATCH", own, {"notify": "none"}, 404)
    shore = (await mara.make(visibility="open"))["id"]
    await call(kaz, "PATCH", f"/conversations/{shore}/members/me", {"notify": "none"}, 403)


async def test_who_is_told_and_of_what(served: Served) -> None:
    mara, odd, kaz, una = people(served, "mara", "odd", "kaz", "una")
    group = (await mara.make(title="Berth 4", members=[odd.user, kaz.user, una.user]))["id"]
    pair = (await mara.make(kind="direct", members=[odd.user]))["id"]
    await call(kaz, "PATCH", f"/conversations/{group}/members/me", {"notify": "all"}, 200)
    await call(una, "PATCH", f"/conversations/{group}/members/me", {"notify": "none"}, 200)
    async with receiver() as to:
        await hook(office_of(served), to)
        await mara.post(group, "the tide is early")
        await mara.post(group, "mind the ramp", mentions=[odd.user, una.user, kaz.user])
        await mara.post(pair, "are you there?")
        found = await told(to, lambda it: len(it) >= 4)
        assert sorted((one["user_id"], one["conversation_id"], one["seq"]) for one in found) == sorted([
            (kaz.user, group, 1), (kaz.user, group, 2), (odd.user, group, 2), (odd.user, pair, 1),
        ])  # fmt: skip
        [named] = [one for one in found if one["user_id"] == odd.user and one["conversation_id"] == group]
        assert named == {
            "user_id": odd.user, "conversation_id": group, "seq": 2, "title": "Berth 4", "author": "Mara",
            "body": "mind the ramp", "unread": 2, "url": f"https://chat.example/console/c/{group}?at=2",
        }  # fmt: skip
        [alone] = [one for one in found if one["conversation_id"] == pair]
        assert (alone["title"], alone["author"], alone["unread"]) == ("Mara", "Mara", 1)
        # Whom an edit names is told once, and nobody else again.
        edited = {"body": "the tide is late", "mentions": [odd.user]}
        await call(mara, "PATCH", f"/conversations/{group}/messages/1", edited, 200)
        await mara.post(group, "the last", mentions=[odd.user])
        found = await told(to, lambda it: 3 in seqs(it, group, odd.user) and 3 in seqs(it, group, kaz.user))
        assert seqs(found, group, odd.user) == [2, 1, 3]
        assert seqs(found, group, kaz.user) == [1, 2, 3]
        assert [
            one["body"] for one in found if one["url"].endswith(f"{group}?at=1") and one["user_id"] == odd.user
        ] == ["the tide is late"]


async def test_what_holds_at_the_moment_of_sending_decides(served: Served) -> None:
    mara, odd, kaz = people(served, "mara", "odd", "kaz")
    office = office_of(served)
    read, gone, later, blocking = [
        (await mara.make(kind="bulletin", members=[odd.user, kaz.user]))["id"] for _ in range(4)
    ]
    pair = (await mara.make(kind="direct", members=[kaz.user]))["id"]
    await call(kaz, "PATCH", f"/conversations/{later}/members/me",
               {"notify_after": format_time(datetime.now(UTC) + timedelta(hours=1))}, 200)  # fmt: skip
    async with receiver() as to:
        id_ = await hook(office, to)
        # However long all of this takes: nothing is sent meanwhile.
        await call(office, "PATCH", f"/webhooks/{id_}", {"state": "paused"}, 200)
        for place in (read, gone, later, blocking, pair):
            await mara.post(place, "one")
            await mara.post(place, "two")
        await call(kaz, "PUT", f"/conversations/{read}/receipt", {"read_seq": 1}, 200)
        await call(mara, "DELETE", f"/conversations/{gone}/messages/1", status=200)
        await call(odd, "DELETE", f"/conversations/{gone}/members/me", status=204)
        await call(kaz, "PUT", f"/me/blocked/{mara.user}", status=201)
        await call(office, "PATCH", f"/webhooks/{id_}", {"state": "active"}, 200)
        found = await told(to, lambda it: all(2 in seqs(it, place, odd.user) for place in (read, later, blocking)))
        assert seqs(found, read, kaz.user) == []
        assert seqs(found, gone, odd.user) == seqs(found, gone, kaz.user) == []
        assert seqs(found, later, kaz.user) == seqs(found, pair, kaz.user) == []
        assert seqs(found, later, odd.user) == seqs(found, blocking, odd.user) == [1, 2]
        await call(kaz, "DELETE", f"/me/blocked/{mara.user}", status=204)
        # Nothing of before is told later: what was posted then has had its moment.
        await call(kaz, "PATCH", f"/conversations/{later}/members/me", {"notify_after": None}, 200)
        for place in (read, gone, later, pair):
            await mara.post(place, "three")
        found = await told(to, lambda it: all(3 in seqs(it, place, kaz.user) for place in (read, gone, later, pair)))
        assert [seqs(found, place, kaz.user) for place in (read, gone, later, pair)] == [[3]] * 4
        await call(office, "PUT", f"/people/{kaz.user}/suspension", {}, 201)
        await mara.post(read, "four")
        found = await told(to, lambda it: 4 in seqs(it, read, odd.user))
        assert 4 not in seqs(found, read, kaz.user)


async def test_nobody_is_told_of_what_they_are_looking_at(served: Served) -> None:
    mara, odd = people(served, "mara", "odd")
    here, there = [(await mara.make(kind="direct" if n else "bulletin", members=[odd.user]))["id"] for n in range(2)]
    async with receiver() as to, odd.socket() as wire:
        await hook(office_of(served), to)
        assert (await wire.command(type="looking", conversation_id=here))["type"] == "done"
        for place in (here, there):
            await mara.post(place, "one")
        found = await told(to, lambda it: 1 in seqs(it, there, odd.user))
        await wire.command(type="looking", conversation_id=there)
        await mara.post(here, "two")
        found = await told(to, lambda it: 2 in seqs(it, here, odd.user))
        assert seqs(found, here, odd.user) == [2]
        await wire.command(type="looking", conversation_id=here)
        await wire.command(type="looking", conversation_id=None)
        await mara.post(here, "three")
        await told(to, lambda it: 3 in seqs(it, here, odd.user))
        await wire.command(type="looking", conversation_id=here)
        await wire.raw.close()
        await mara.post(here, "four")
        await told(to, lambda it: 4 in seqs(it, here, odd.user))
        refused = [await odd_one(odd, frame) for frame in ({}, {"conversation_id": "here"}, {"conversation_id": 4})]
        assert [one["problem"]["status"] for one in refused] == [422, 422, 422]


async def test_the_library_says_what_is_looked_at_and_who_is_writing(served: Served) -> None:
    mara, odd = people(served, "mara", "odd")
    here, there = [(await mara.make(kind="bulletin", members=[odd.user]))["id"] for _ in range(2)]
    async with receiver() as to, AsyncClient(served.url, odd.token) as client, mara.socket() as wire:
        await hook(office_of(served), to)
        async with client.follow_all() as follow:
            await follow.looking(here)  # there is no line yet, and it is not said
            await connected(follow)
            await follow.looking(here)
            for place in (here, there):
                await mara.post(place, "two")
            found = await told(to, lambda it: 1 in seqs(it, there, odd.user))
            assert seqs(found, here, odd.user) == []
        group = (await mara.make(members=[odd.user]))["id"]
        await wire.command(type="follow", conversation_id=group)
        async with client.follow(group) as follow:
            await connected(follow)
            await follow.writing(group)
            said = {"type": "signal", "conversation_id": group, "user_id": odd.user, "name": "writing"}
            assert await signal_of(wire) == said
        async with client.live(group) as live:
            await on_the_line(live)
            await live.looking()
            await live.writing()  # it may be too soon for another
            await mara.post(here, "three")
            await mara.post(group, "looked at", mentions=[odd.user])
            found = await told(to, lambda it: 2 in seqs(it, here, odd.user))
            assert seqs(found, group, odd.user) == []


async def connected(follow: Follow) -> None:
    """Have it wait for an event, and be on the line."""
    waiting = asyncio.create_task(anext(follow))
    waiting.add_done_callback(lambda task: task.cancelled() or task.exception())
    await on_the_line(follow)


async def on_the_line(one: Follow | LiveConversation) -> None:
    async def state() -> FollowState:
        return one.state.state

    await once(state, lambda it: it is FollowState.LIVE)


async def signal_of(wire: Wire) -> dict[str, Any]:
    while (frame := await wire.get())["type"] != "signal":
        pass
    return frame


async def odd_one(who: Person, frame: dict[str, Any]) -> dict[str, Any]:
    async with who.socket() as wire:
        return await wire.command(type="looking", **frame)


async def test_a_failing_receiver_gets_them_later_and_a_replay_again(served: Served) -> None:
    mara, odd = people(served, "mara", "odd")
    office = office_of(served)
    place = (await mara.make(kind="bulletin", members=[odd.user]))["id"]
    async with receiver() as to:
        id_ = await hook(office, to)
        to.answer = status(500)
        await mara.post(place, "one")
        await mara.post(place, "two")
        await told(to, lambda it: len(it) >= 2)
        await call(office, "PATCH", f"/webhooks/{id_}", {"state": "paused"}, 200)
        await call(mara, "DELETE", f"/conversations/{place}/messages/1", status=200)
        before = len(to.got)
        to.answer = status(204)
        await call(office, "PATCH", f"/webhooks/{id_}", {"state": "active"}, 200)
        await to.has(lambda it: len(it.got) > before)
        again = [(one["seq"], one["body"]) for got in to.got[before:] for one in got.json["data"]["items"]]
        assert again == [(2, "two")]
        await mara.post(place, "three")
        await told(to, lambda it: seqs(it, place, odd.user)[-1] == 3)
        await call(odd, "PUT", f"/conversations/{place}/receipt", {"read_seq": 2}, 200)
        before = len(to.got)
        await call(office, "POST", f"/webhooks/{id_}/replay", {"from": "2026-01-01T00:00:00Z"}, 202)
        await to.has(lambda it: len(it.got) > before)
        assert [one["seq"] for got in to.got[before:] for one in got.json["data"]["items"]] == [3]
        shown = (await call(office, "GET", f"/webhooks/{id_}", status=200)).json()
        assert shown["attempt"] == 0


async def test_whoever_has_taken_some_of_many_begins_to_fail_anew(served: Served) -> None:
    [mara] = people(served, "mara")
    office = office_of(served)
    place = (await mara.make(kind="bulletin", members=[unique("crew") for _ in range(200)]))["id"]
    async with receiver() as to:
        answers = [500, 500, 204]

        async def answer(writer: asyncio.StreamWriter) -> None:
            await status(answers.pop(0) if answers else 500)(writer)

        to.answer = answer
        id_ = await hook(office, to)
        await mara.post(place, "to all crews")

        async def deliveries() -> list[tuple[int, int]]:
            found = (await call(office, "GET", f"/webhooks/{id_}/deliveries", status=200)).json()["items"]
            return [(one["status"], one["attempt"]) for one in reversed(found)]

        found = await once(deliveries, lambda it: len(it) >= 4)
        assert found[:4] == [(500, 1), (500, 2), (204, 3), (500, 1)]


async def test_a_large_bulletin_is_told_in_parts(served: Served) -> None:
    [mara] = people(served, "mara")
    users = [unique(f"crew{n:04}") for n in range(999)]
    place = (await mara.make(kind="bulletin", members=users))["id"]
    async with receiver() as to:
        await hook(office_of(served), to)
        await mara.post(place, "x" * 8_000)
        await mara.post(place, "the last")
        found = await told(to, lambda it: sum(one["seq"] == 2 for one in it) == 999)
        assert sorted(one["user_id"] for one in found if one["seq"] == 1) == sorted(users)
        assert {len(one["body"]) for one in found if one["seq"] == 1} == {500}
        assert max(len(one.body) for one in to.got) <= 256 * 1024
