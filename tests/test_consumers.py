"""A consumer's promises, whatever fails: at least once, in the order of each conversation, from a cursor that is kept,
under a lease that one process holds. On the real store, with a clock and a receiver of the test's own."""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any
from uuid import UUID, uuid4

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, Post, React, Read, Remove
from nestrel.core.cursors import CursorSeal
from nestrel.core.objects import ChangeSet
from nestrel.core.problems import Problem
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.replica import Replica
from nestrel.core.retention import Rule
from nestrel.core.webhooks import Failing, State
from nestrel.live.moves import Moves
from nestrel.live.source import StoreSource
from nestrel.service.consumers import Lease, LeaseLost
from nestrel.service.outbound import Answer
from nestrel.service.sending import owner
from nestrel.service.webhooks import WebhookHandler
from nestrel.store import snapshots
from nestrel.store.database import Database
from nestrel.store.keep import consumers, journal, retention, sweep
from nestrel.store.native import execute, fetch
from nestrel.store.read import webhooks as reading
from nestrel.store.write import conversations, members, webhooks
from nestrel.store.write.webhooks import Outcome
from nestrel.store.write.writer import Writer
from tests.support import make_place

SEAL = CursorSeal(b"a key of the tests")
OFFICE = Caller("office", service=True)


class Killed(Exception):
    """The process ends here."""


class Stand:
    """A receiver, a clock, and the processes that send: each handler is one, and the lease goes from one to the next.
    `does` is how the next requests end."""

    def __init__(self, database: Database, hook: UUID) -> None:
        self.database, self.hook = database, hook
        self.now = datetime(2026, 11, 27, tzinfo=UTC)
        self.does: list[str] = []
        self.held: dict[str, Replica] = {}
        self.closed: set[str] = set()
        self.newest: dict[str, int] = {}
        self.requests: list[tuple[datetime, bool]] = []
        self.process = 0

    async def post(self, _url: str, headers: Mapping[str, str], body: bytes) -> Answer:
        assert len(body) <= limits.WEBHOOK_BYTES
        does = self.does.pop(0) if self.does else "take"
        self.requests.append((self.now, does in ("take", "kill after", "steal")))
        if does == "kill before":
            raise Killed
        if does in ("refuse", "stop"):
            return Answer(410 if does == "stop" else 500, 1, "refused")
        self._take(json.loads(body))
        if does == "kill after":
            raise Killed
        if does == "steal":
            await self.take_lease()
        return Answer(204, 1)

    def _take(self, sent: dict[str, Any]) -> None:
        if sent["type"] == "closed":
            self.closed |= {item["conversation_id"] for item in sent["data"]["items"]}
            return
        for item in sent["data"]["items"]:
            changes = ChangeSet.model_validate(item)
            id_ = changes.conversation_id
            for message in changes.messages:
                known = self.newest.get(id_, 0)
                assert message.seq <= max(known + 1, changes.floor), "none is passed over"
                self.newest[id_] = max(known, message.seq)
            self.held.setdefault(id_, Replica(id_)).apply(changes)

    async def take_lease(self) -> Lease | None:
        """Another process takes over, as when the lease of the one before has ended."""
        self.process += 1
        async with self.database.read() as connection:
            await execute(connection, "UPDATE nestrel.consumers SET held_until = '-infinity' WHERE name <> 'search'")
        taken = await consumers.take(self.database, f"process {self.process}", [], 10, search=False)
        mine = [one for one in taken if one.name == webhooks.consumer(self.hook)]
        return Lease(mine[0].name, mine[0].lease, mine[0].cursor, time.monotonic() + 3600) if mine else None

    def handler(self) -> WebhookHandler:
        moves = Moves(StoreSource(self.database, 1000))
        return WebhookHandler(self.hook, self.database, moves, lambda: SEAL, self, lambda: self.now)  # type: ignore[arg-type]  # it posts

    async def drain(self, does: list[str]) -> None:
        """Send until nothing is left, in as many processes as it takes."""
        self.does = does
        idle = 0
        while idle < 2:
            lease, handler = await self.take_lease(), self.handler()
            if lease is None:
                return  # stopped
            while idle < 2:
                try:
                    pause = await handler.step(lease)
                except (Killed, LeaseLost):
                    idle = 0
                    break
                if pause > 0.5:
                    self.now += timedelta(seconds=pause)
                idle = idle + 1 if 0 < pause < 0.5 else 0
            else:
                await handler.end(lease)


async def make_hook(database: Database, only: UUID | None = None) -> UUID:
    id_ = uuid4()
    async with database.read() as connection:
        await execute(connection, "DELETE FROM nestrel.webhooks")
        await execute(connection, "DELETE FROM nestrel.consumers WHERE name <> 'search'")
        cursor = SEAL.all(owner(id_), await snapshots.now(connection))
    await webhooks.make(database, OFFICE, id_, "https://example.org/", "changes", only, b"x" * 32, cursor)
    return id_


DOES = st.lists(st.sampled_from(["take", "take", "refuse", "kill before", "kill after", "steal"]), max_size=6)
WHERE = st.integers(0, 2)
DEEDS = st.one_of(
    st.tuples(st.just("post"), WHERE, st.integers(1, 250)),
    st.tuples(st.just("long"), WHERE, st.integers(1, 90)),
    st.tuples(st.just("edit"), WHERE, st.integers(1, 300)),
    st.tuples(st.just("remove"), WHERE, st.integers(1, 300)),
    st.tuples(st.just("like"), WHERE, st.integers(1, 300)),
    st.tuples(st.just("read"), WHERE, st.integers(1, 300)),
    st.tuples(st.just("leave"), WHERE),
    st.tuples(st.just("join"), WHERE),
    st.tuples(st.just("keep"), WHERE, st.integers(1, 40)),
    st.tuples(st.just("close"), WHERE),
    st.tuples(st.just("make")),
    st.tuples(st.just("trim")),
    st.tuples(st.just("drain"), DOES),
)  # fmt: skip


class Scene:
    """Conversations in which things happen."""

    def __init__(self, database: Database, places: list[UUID]) -> None:
        self.database, self.places = database, places
        self.writer = Writer(database)

    async def write(self, *units: Command) -> None:
        for unit in units:
            with suppress(Problem):
                await self.writer.submit([unit])

    async def do(self, kind: str, *rest: Any) -> None:
        if kind == "make":
            self.places.insert(0, await make_place(self.database, mara="owner", odd="writer"))
            return
        if kind == "trim":  # as long after: the journal does not reach back
            while await journal.trim(self.database, timedelta(seconds=-60)):
                pass
            return
        place = self.places[rest[0]]
        if kind in ("post", "long"):
            body = "w" if kind == "post" else "wave " * 1500
            for start in range(0, rest[1], 100):
                posts = [Post(place, "mara", body) for _ in range(start, min(start + 100, rest[1]))]
                try:
                    await self.writer.submit(posts)
                except Problem:
                    return
        elif kind == "edit":
            await self.write(Edit(place, "mara", rest[1], "changed"))
        elif kind == "remove":
            await self.write(Remove(place, "mara", rest[1]))
        elif kind == "like":
            await self.write(React(place, "odd", rest[1], "like", True))
        elif kind == "read":
            await self.write(Read(place, "odd", rest[1]))
        else:
            await self._rule(kind, place, *rest[1:])

    async def _rule(self, kind: str, place: UUID, *rest: Any) -> None:
        try:
            if kind == "leave":
                await members.end(self.database, Caller("odd"), place, "odd")
            elif kind == "join":
                await members.put(self.database, Caller("mara"), place, "odd", None, DEFAULT_QUOTAS)
            elif kind == "keep":
                await retention.put(self.database, place, Rule(keep_last=rest[0]), confirmed=True)
                while await sweep.step(self.database):
                    pass
            else:
                await conversations.close(self.database, Caller("mara"), place)
        except Problem:
            pass


async def check(stand: Stand, scene: Scene, told_from: dict[UUID, int]) -> None:
    """What the receiver holds is what there is: of each conversation everything above where it stood at first, and
    whatever has changed below."""
    for place in scene.places:
        async with stand.database.read() as connection:
            [(head, closed)] = await fetch(
                connection, "SELECT head, closed_at IS NOT NULL FROM nestrel.conversations WHERE id = $1", place
            )
            rows = await fetch(
                connection,
                "SELECT seq, greatest(rev, (SELECT max(rev) FROM nestrel.reaction_counts c WHERE c.conversation_id = "
                "m.conversation_id AND c.seq = m.seq)), body FROM nestrel.messages m WHERE conversation_id = $1 AND "
                "seq > $2 AND seq >= (SELECT floor FROM nestrel.conversations WHERE id = $1) ORDER BY seq",
                place, told_from.get(place, 0),
            )  # fmt: skip
        if closed:
            assert str(place) in stand.closed
            continue
        if head > told_from.get(place, 0):
            held = stand.held[str(place)]
            assert held.head == head
            above = [one for one in held.ordered() if one.seq > told_from.get(place, 0)]
            assert [(one.seq, one.rev, one.body) for one in above] == [tuple(row) for row in rows]


@pytest.fixture(scope="module")
async def database(make_database: Callable[[], str]) -> AsyncIterator[Database]:
    opened = Database(make_database())
    yield opened
    await opened.close()


@settings(max_examples=60, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(deeds=st.lists(DEEDS, max_size=14), does=DOES, only=st.booleans())
async def test_nothing_is_lost_or_passed_over_whatever_fails(
    database: Database, deeds: list[tuple[Any, ...]], does: list[str], only: bool
) -> None:
    places = [await make_place(database, mara="owner", odd="writer") for _ in range(3)]
    scene = Scene(database, places)
    await scene.do("post", 0, 120)
    await scene.do("post", 1, 3)
    told_from = {places[0]: 120, places[1]: 3, places[2]: 0}
    alone = places[0]
    stand = Stand(database, await make_hook(database, alone if only else None))
    stand.newest = {str(id_): head for id_, head in told_from.items()}
    for kind, *rest in deeds:
        if kind == "drain":
            await stand.drain(list(rest[0]))
        else:
            await scene.do(kind, *rest)
    await stand.drain(list(does))
    if only:
        scene.places = [alone]
    await check(stand, scene, told_from)


async def test_an_hour_of_a_dead_receiver_and_three_days_of_another(database: Database) -> None:
    place = await make_place(database, mara="owner", odd="writer")
    scene = Scene(database, [place])
    stand = Stand(database, await make_hook(database))
    begun = stand.now
    await scene.do("post", 0, 5)
    dead = 13
    for n in range(dead):  # others go on posting
        await scene.do("post", 0, 1)
        await stand.drain(["refuse"]) if n == 0 else None
    lease, handler = await stand.take_lease(), stand.handler()
    assert lease is not None
    stand.does = ["refuse"] * dead
    while stand.does:
        pause = await handler.step(lease)
        stand.now += timedelta(seconds=pause)
    assert stand.now - begun > timedelta(hours=1)
    await stand.drain([])
    assert [one.seq for one in stand.held[str(place)].ordered()] == list(range(1, 19))

    stand.requests.clear()
    await scene.do("post", 0, 1)
    begun = stand.now
    await stand.drain(["refuse"] * 200)
    at = [(moment - begun).total_seconds() for moment, _ in stand.requests]
    pauses = [round(later - before) for before, later in pairwise(at)]
    assert pauses[:13] == [1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 1024, 2048, 3600]
    assert set(pauses[13:]) == {3600}
    assert 3 * 86_400 <= at[-1] <= 3 * 86_400 + 3600
    async with database.read() as connection:
        hook, _ = await reading.one(connection, stand.hook)
    assert hook.state == "stopped"
    assert hook.failing.attempt == len(at)


async def test_however_far_behind_a_reading_is_bounded(database: Database) -> None:
    places = [await make_place(database, mara="owner", odd="writer") for _ in range(30)]
    scene = Scene(database, places)
    stand = Stand(database, await make_hook(database))
    for n in range(30):
        await scene.do("post", n, 250 if n % 7 else 2000)
    sizes: list[int] = []
    take = stand._take

    def counted(sent: dict[str, Any]) -> None:
        sizes.append(sum(len(item["messages"]) for item in sent["data"]["items"]))
        take(sent)

    stand._take = counted  # type: ignore[method-assign]  # to count
    await scene.do("trim")
    await stand.drain([])
    assert sum(sizes) == 25 * 250 + 5 * 2000
    assert max(sizes) <= limits.WEBHOOK_ROWS + 200
    await check(stand, scene, {})


async def test_a_lease_is_one_process_s_and_an_old_one_writes_nothing(database: Database) -> None:
    stand = Stand(database, await make_hook(database))
    first = await stand.take_lease()
    assert first is not None
    assert await consumers.take(database, "another", [], 10, search=False) == []
    assert await consumers.renew(database, f"process {stand.process}", [first.name]) == {first.name: first.number}
    second = await stand.take_lease()
    assert second is not None
    assert second.number == first.number + 1
    assert await consumers.renew(database, "process 1", [first.name]) == {}
    assert not await consumers.keep(database, first.name, first.number, "old")
    assert await consumers.keep(database, second.name, second.number, second.cursor or "")
    await consumers.release(database, f"process {stand.process}", [second.name])
    assert [one.lease for one in await consumers.take(database, "third", [], 10, search=False)] == [second.number + 1]


async def test_a_webhook_is_changed_while_its_requests_are_noted(database: Database) -> None:
    """Neither waits for what the other holds."""
    stand = Stand(database, await make_hook(database))
    for _ in range(60):
        lease = await stand.take_lease()
        assert lease is not None
        came = Outcome(stand.now, 1, 500, 1, "refused", Failing(1, stand.now, stand.now))
        notes = (webhooks.note(database, stand.hook, lease.number, came) for _ in range(3))
        await asyncio.gather(*notes, webhooks.change(database, OFFICE, stand.hook, None, State.ACTIVE, None))


async def test_one_that_has_taken_something_begins_to_fail_anew(database: Database) -> None:
    """Its three days do not go on from a failure of before."""
    scene = Scene(database, [await make_place(database, mara="owner", odd="writer") for _ in range(2)])
    stand = Stand(database, await make_hook(database))
    await scene.do("post", 0, 1)
    await scene.do("close", 1)  # of another kind: two requests
    lease, handler = await stand.take_lease(), stand.handler()
    assert lease is not None
    stand.does = ["refuse", "refuse", "refuse", "take", "refuse"]
    while stand.does:
        stand.now += timedelta(seconds=await handler.step(lease))
    async with database.read() as connection:
        hook, _ = await reading.one(connection, stand.hook)
    assert hook.failing.attempt == 1
    assert hook.failing.since == stand.requests[-1][0]
