"""A return in one question: who signs in and follows everything with one frame, and is told at once when all has
come."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import AsyncExitStack, asynccontextmanager
from typing import Any
from uuid import UUID

import asyncpg
import pytest
from websockets.asyncio.client import connect

from nestrel.core.callers import Caller
from nestrel.core.commands import Post
from nestrel.core.cursors import AllPosition, CursorSeal
from nestrel.live.checkpoints import Checkpoints
from nestrel.live.deliveries import Checkpoint, Delivery, Ended, Event
from nestrel.live.following import Following
from nestrel.live.hub import Hub
from nestrel.live.moves import Moves
from nestrel.live.returns import Returns
from nestrel.live.source import StoreSource
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.write import members
from nestrel.store.write.writer import Writer
from tests.support import PATIENCE, Person, Served, Wire, make_place, unique
from tests.test_streams import events

SEAL = CursorSeal(b"a key of the test's own")


@pytest.fixture
def rare(make_database: Callable[[], str]) -> Iterator[Served]:
    """A service whose checkpoints for all come once a minute: what comes sooner was said at once."""
    with Served(make_database(), NESTREL_CHECKPOINT_SECONDS="60") as served:
        yield served.wait_ready()


@asynccontextmanager
async def line(who: Person, **frame: Any) -> AsyncIterator[Wire]:
    """A line whose first frame is a sign-in with more in it."""
    async with connect("ws" + who.url[4:] + "/v1/live", max_size=None) as raw:
        wire = Wire(raw)
        await wire.send(type="sign_in", token=who.token, **frame)
        assert (await wire.get(checkpoints=True))["type"] == "signed_in"
        yield wire


async def until_checkpoint(wire: Wire) -> tuple[list[dict[str, Any]], str]:
    came = []
    while (frame := await wire.get(checkpoints=True))["type"] != "checkpoint":
        came.append(frame)
    return came, frame["cursor"]


async def test_a_return_in_one_question(rare: Served) -> None:
    mara, odd = Person(rare.url, unique("mara")), Person(rare.url, unique("odd"))
    places = [(await mara.make(members=[odd.user]))["id"] for _ in range(4)]
    async with line(odd, follow_all=True, ref="first") as wire:
        done = await wire.get(checkpoints=True)
        assert (done["type"], done["ref"], done["reset"]) == ("done", "first", False)
        came, cursor = await until_checkpoint(wire)
        assert came == []
        await mara.post(places[0], "live")
        assert [row["body"] for row in await wire.messages(1)] == ["live"]
    for _ in range(2):  # nothing was missed but what came without a checkpoint
        async with line(odd, follow_all=True, cursor=cursor) as wire:
            done = await wire.get(checkpoints=True)
            assert (done["type"], done["cursor"], "ref" in done) == ("done", cursor, False)
            came, last = await until_checkpoint(wire)
            assert [row["body"] for one in came for row in one["messages"]] == ["live"]
    await mara.post(places[1], "one")
    await mara.http.patch(f"/conversations/{places[2]}", json={"title": "Berth 2"})
    await mara.http.delete(f"/conversations/{places[3]}/members/{odd.user}")
    fresh = (await mara.make(title="fresh", members=[odd.user]))["id"]
    async with line(odd, follow_all=True, cursor=last) as wire:
        assert (await wire.get(checkpoints=True))["type"] == "done"
        came, last = await until_checkpoint(wire)
        changes = {one["conversation_id"]: one for one in came if one["type"] == "changes"}
        assert set(changes) == {places[1], places[2], fresh}
        assert [row["body"] for row in changes[places[1]]["messages"]] == ["one"]
        assert changes[places[2]]["conversation"]["title"] == "Berth 2"
        assert changes[fresh]["reset"]
        [ended] = [one for one in came if one["type"] == "unfollowed"]
        assert (ended["conversation_id"], ended["reason"]) == (places[3], "removed")
    # The same of a stream, by the header of a browser that comes back.
    async with events(odd, "/stream", headers={"Last-Event-ID": last}) as stream:
        name, id_, data = await stream.get()
        assert (name, id_) == ("checkpoint", data)
    async with events(odd, "/stream", headers={"Last-Event-ID": cursor}) as stream:
        names = set()
        while (name := (await stream.get())[0]) != "checkpoint":
            names.add(name)
        assert names == {"changes", "unfollowed"}


async def test_what_is_wrong_with_the_following_refuses_it_and_not_the_sign_in(rare: Served) -> None:
    mara, odd = Person(rare.url, unique("mara")), Person(rare.url, unique("odd"))
    await mara.make(members=[odd.user])
    foreign = (await mara.http.post("/resync", json={})).json()["cursor"]
    poor: list[dict[str, Any]] = [
        {"cursor": "x", "follow_all": True}, {"cursor": foreign, "follow_all": True}, {"cursor": foreign},
        {"cursor": 5, "follow_all": True}, {"cursor": "y" * 401, "follow_all": True}, {"follow_all": "yes"},
        {"follow_all": 1}, {"cursor": foreign, "follow_all": False},
    ]  # fmt: skip
    for frame in poor:
        async with line(odd, ref=7, **frame) as wire:
            refused = await wire.get(checkpoints=True)
            assert (refused["type"], refused["ref"], refused["problem"]["status"]) == ("refused", 7, 422), frame
            assert (await wire.command(type="follow_all"))["type"] == "done"
    for frame in ({"cursor": None}, {"cursor": None, "follow_all": None}, {"follow_all": False}):
        async with line(odd, **frame) as wire:
            await wire.quiet()
    async with odd.socket() as wire:
        assert (await wire.command(type="sign_in", token=odd.token, follow_all=True))["type"] == "signed_in"
        assert (await wire.get(checkpoints=True))["problem"]["status"] == 422
    async with odd.socket(header=True) as wire:
        assert (await wire.command(type="sign_in", token=odd.token, follow_all=True))["type"] == "signed_in"
        assert (await wire.get(checkpoints=True))["problem"]["status"] == 422


# One hub, without a service


@pytest.fixture
async def database(make_database: Callable[[], str]) -> AsyncIterator[Database]:
    opened = Database(make_database())
    yield opened
    await opened.close()


class Stand:
    """A hub that nobody tells anything, and those who follow at it."""

    def __init__(self, database: Database) -> None:
        self.database = database
        self.source = StoreSource(database, 1_000)
        self.hub = Hub(self.source)
        self.checkpoints = Checkpoints(self.hub, moves := Moves(self.source), 60)
        self.returns = Returns(self.source, moves, self.checkpoints)

    def following(self, user: str) -> tuple[Following, asyncio.Event]:
        stirred = asyncio.Event()
        made = Following(self.hub, self.source, self.returns, lambda: SEAL, Caller(user), stirred.set)
        return made, stirred

    async def turn(self) -> None:
        self.checkpoints.since = await self.checkpoints.turn(self.checkpoints.since)

    async def stop(self) -> None:
        await self.returns.stop()
        await self.hub.stop()


async def told(following: Following, stirred: asyncio.Event) -> list[Event]:
    """What comes up to the checkpoint."""
    came: list[Event] = []
    async with asyncio.timeout(PATIENCE):
        while True:
            stirred.clear()
            event = await following.next() if following.pending else None
            if isinstance(event, Checkpoint):
                return came
            if event is not None:
                came.append(event)
            elif not following.pending:
                await stirred.wait()


async def test_what_no_word_came_of_is_sent_before_the_checkpoint_that_comes_at_once(
    database: Database, afterwards: AsyncExitStack
) -> None:
    """Somebody follows a conversation already, so that the hub stands where it stood; a commit of which it does not
    hear is found by whoever returns, with an older cursor or without one."""
    place = await make_place(database, mara="owner", odd="writer")
    stand = Stand(database)
    afterwards.push_async_callback(stand.stop)
    await stand.turn()
    first, _ = stand.following("mara")
    before, _ = await first.follow_all(None)
    await Writer(database).submit([Post(place, "mara", "unheard")])
    for since in (before, None):
        second, stirred = stand.following("odd")
        await second.follow_all(since)
        assert [type(event) for event in await told(second, stirred)] == [Delivery]
        second.end_all()
        if since is not None:
            await Writer(database).submit([Post(place, "mara", "unheard again")])


@pytest.mark.parametrize("resumes", [True, False])
async def test_who_is_removed_while_they_come_back_is_sent_nothing_more(
    database: Database, afterwards: AsyncExitStack, monkeypatch: pytest.MonkeyPatch, resumes: bool
) -> None:
    """Between the look at what is theirs and their registration: what the hub has of that moment is not for them."""
    place = await make_place(database, mara="owner", odd="writer")
    stand, writer = Stand(database), Writer(database)
    afterwards.push_async_callback(stand.stop)
    await writer.submit([Post(place, "mara", "while odd was there")])
    await stand.turn()
    first, _ = stand.following("mara")
    before, _ = await first.follow_all(None)
    memberships = stand.source.memberships

    async def removed(asked: Any) -> Any:
        found = await memberships(asked)
        await members.end(database, Caller("mara"), place, "odd")
        [written] = await writer.submit([Post(place, "mara", "not for odd")])
        stand.hub.heard([Moved(place, written.object["rev"])])
        while (reading := stand.hub.channels[place].reading) is not None:
            await asyncio.wait([reading])
        return found

    monkeypatch.setattr(stand.source, "memberships", removed)
    second, stirred = stand.following("odd")
    await second.follow_all(before if resumes else None)
    came = await told(second, stirred)
    assert came == [Ended(place, "removed")]
    assert not second.follows


@pytest.mark.parametrize("kept", [True, False])
async def test_what_one_has_read_serves_the_others_and_not_for_long(
    database: Database, afterwards: AsyncExitStack, monkeypatch: pytest.MonkeyPatch, kept: bool
) -> None:
    """Of what has expired since it was read nobody is to be told."""
    crew = ["tove", "odd", "petra"]
    place = await make_place(database, mara="owner", **dict.fromkeys(crew, "writer"))
    stand, writer = Stand(database), Writer(database)
    afterwards.push_async_callback(stand.stop)
    await writer.submit([Post(place, "mara", "before")])
    await stand.turn()
    before = await stand.returns.now()
    await writer.submit([Post(place, "mara", "missed ⚓")])
    first, _ = stand.following("mara")
    await first.follow_all(None)
    if not kept:
        monkeypatch.setattr("nestrel.live.hub._KEPT_SECONDS", 0.0)
    catch_up, reads = stand.source.catch_up, list[str]()

    async def counted(caller: Caller, *args: Any) -> Any:
        reads.append(caller.user_id)
        return await catch_up(caller, *args)

    monkeypatch.setattr(stand.source, "catch_up", counted)
    for user in crew:
        following, stirred = stand.following(user)
        await following.follow_all(before)
        [delivery] = await told(following, stirred)
        assert isinstance(delivery, Delivery)
        assert "missed ⚓" in delivery.tail
    assert reads == (crew[:1] if kept else crew)
    assert len(stand.hub.channels[place].ring) == 1
    assert stand.hub.ring_bytes == sum(len(entry.tail) for entry in stand.hub.channels[place].ring)


async def test_many_who_return_share_their_questions(
    database: Database, afterwards: AsyncExitStack, monkeypatch: pytest.MonkeyPatch
) -> None:
    crew = [f"deck-{n}" for n in range(60)]
    places = [await make_place(database, mara="owner", **dict.fromkeys(crew, "writer")) for _ in range(3)]
    stand = Stand(database)
    afterwards.push_async_callback(stand.stop)
    await stand.turn()
    fetch, asked = asyncpg.Connection.fetch, list[str]()

    async def counting(self: Any, sql: str, *args: Any, **options: Any) -> Any:
        asked.append(sql)
        return await fetch(self, sql, *args, **options)

    monkeypatch.setattr(asyncpg.Connection, "fetch", counting)

    async def come(user: str, since: AllPosition | None) -> tuple[AllPosition, set[UUID]]:
        following, stirred = stand.following(user)
        at, _ = await following.follow_all(since)
        assert await told(following, stirred) == []
        follows = set(following.follows)
        following.end_all()
        return at, follows

    async with asyncio.timeout(PATIENCE):
        found = await asyncio.gather(*(come(user, None) for user in crew))
        again = await asyncio.gather(*(come(user, at) for user, (at, _) in zip(crew, found, strict=True)))
    assert [follows for _, follows in again] == [set(places)] * len(crew)
    assert len(asked) <= len(crew) // 2
