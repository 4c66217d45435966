"""Whoever is to be told of a message is, whatever fails, and nobody else ever; without a failure once. On the real
store, against a plain model of who wants what."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from datetime import timedelta
from typing import Any
from uuid import UUID

import pytest
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, Post, Read, Remove
from nestrel.core.cursors import AllPosition
from nestrel.core.notices import Notice
from nestrel.core.problems import Problem
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.live.moves import Moves
from nestrel.live.source import StoreSource
from nestrel.service import noticing
from nestrel.service.consumers import LeaseLost
from nestrel.service.noticing import Noticing
from nestrel.store import epochs, snapshots
from nestrel.store.database import Database
from nestrel.store.keep import journal
from nestrel.store.native import execute
from nestrel.store.write import blocks, members
from nestrel.store.write.noticing import prefer
from nestrel.store.write.writer import Writer
from tests.support import make_pair, make_place, unique

CREW = ("mara", "odd", "kaz")
Told = tuple[int, int, str]


@pytest.fixture(scope="module")
async def database(make_database: Callable[[], str]) -> AsyncIterator[Database]:
    opened = Database(make_database())
    yield opened
    await opened.close()


@pytest.fixture(autouse=True)
def at_once(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(noticing, "_EVERY_SECONDS", -1.0)
    monkeypatch.setattr(noticing, "_TICK_SECONDS", 1e-6)


async def a_place(database: Database, **roles: str) -> UUID:
    """A group in which nobody blocks anybody."""
    async with database.read() as connection:
        await execute(connection, "DELETE FROM nestrel.blocks")
    return await make_place(database, **roles)


@dataclass
class Model:
    """What everyone wants, and what is new to whom since they were last told: of a message, or of being named later."""

    messages: list[list[tuple[str, set[str]]]]
    removed: set[tuple[int, int]] = field(default_factory=set)
    wants: dict[tuple[int, str], str] = field(default_factory=dict)
    read: dict[tuple[int, str], int] = field(default_factory=dict)
    here: set[tuple[int, str]] = field(default_factory=set)
    blocks: set[tuple[str, str]] = field(default_factory=set)
    fresh: set[Told] = field(default_factory=set)
    later: set[Told] = field(default_factory=set)

    def due(self) -> set[Told]:
        """Who is to be told now: of what is new, and whom an edit has named."""
        named = {one for one in self.later if one[2] in self.messages[one[0]][one[1] - 1][1]}
        return {one for one in self.fresh | named if self.wanted(one)}

    def wanted(self, told: Told) -> bool:
        """Whether somebody is to be told of a message as everything stands."""
        place, seq, user = told
        author, named = self.messages[place][seq - 1]
        wants = self.wants.get((place, user), "mentions")
        return (
            (place, seq) not in self.removed and (place, user) in self.here and user != author
            and self.read.get((place, user), 0) < seq and (user, author) not in self.blocks
            and (wants == "all" or (wants == "mentions" and user in named))
        )  # fmt: skip


class Scene:
    """Three groups, and what is told of them, by processes one after the other."""

    def __init__(self, database: Database, places: list[UUID], at: AllPosition) -> None:
        self.database, self.places, self.kept = database, places, at
        self.model = Model([[] for _ in places], here={(n, user) for n in range(3) for user in CREW})
        self.writer = Writer(database)
        self.process = self.begun()
        self.killed = False

    def begun(self) -> Noticing:
        moves = Moves(StoreSource(self.database, 1000))
        return Noticing(self.database, moves, self.kept, subscribed=False, delay=timedelta(0))

    async def write(self, command: Command) -> bool:
        with suppress(Problem):
            await self.writer.submit([command])
            return True
        return False

    async def do(self, kind: str, n: int, *rest: Any) -> None:
        place, model = self.places[n], self.model
        if kind == "post":
            author, named, many = rest
            for _ in range(many):
                if await self.write(Post(place, author, "a word", mentions=tuple(named))):
                    model.messages[n].append((author, set(named)))
                    seq = len(model.messages[n])
                    model.fresh |= {(n, seq, user) for user in CREW}
        elif kind == "edit":
            seq, named = rest
            if seq <= len(model.messages[n]):
                author, before = model.messages[n][seq - 1]
                if await self.write(Edit(place, author, seq, "another word", mentions=tuple(named))):
                    model.messages[n][seq - 1] = (author, set(named))
                    model.later |= {(n, seq, user) for user in set(named) - before}
        elif kind == "remove":
            if await self.write(Remove(place, "mara", rest[0])):
                model.removed.add((n, rest[0]))
        elif kind == "read":
            user, seq = rest
            if await self.write(Read(place, user, seq)):
                model.read[n, user] = max(model.read.get((n, user), 0), seq)
        elif kind == "prefer":
            user, wants = rest
            with suppress(Problem):
                await prefer(self.database, Caller(user), place, user, {"notify": wants})
                model.wants[n, user] = wants
        else:
            await self._stand(kind, n, *rest)

    async def _stand(self, kind: str, n: int, user: str, *rest: Any) -> None:
        place, model = self.places[n], self.model
        if rest and rest[0] == user:
            return
        if kind == "block":
            await blocks.put(self.database, user, rest[0])
            model.blocks.add((user, rest[0]))
        elif kind == "unblock":
            await blocks.delete(self.database, user, rest[0])
            model.blocks.discard((user, rest[0]))
        elif kind == "leave":
            with suppress(Problem):
                await members.end(self.database, Caller(user), place, user)
                model.here.discard((n, user))
        elif kind == "join":
            with suppress(Problem):
                await members.put(self.database, Caller("mara"), place, user, None, DEFAULT_QUOTAS)
                model.here.add((n, user))

    async def tell(self, kill_at: int) -> None:
        """Tell all that there is; the process dies with its so-manieth batch, or is told to keep where it stands."""
        got: list[Told] = []
        idle = batches = 0
        while idle < 2:
            batch = await self.process.next()
            idle = idle + 1 if batch is None else 0
            if batch is None:
                continue
            batches += 1
            got += [self._told(one) for one in batch.notices]
            if batches == kill_at:
                self.process, self.killed = self.begun(), True
            else:
                batch.done()
        due = self.model.due()
        assert due <= set(got)
        assert all(self.model.wanted(told) for told in got)
        if not self.killed:
            assert len(got) == len(due), "once"
        order = [told for told in dict.fromkeys(got) if told in due and told[1] > self.low(told[0])]
        for user in CREW:
            for n in range(3):
                mine = [seq for place, seq, who in order if (place, who) == (n, user)]
                assert mine == sorted(mine)
        self.model.fresh.clear()
        self.model.later.clear()
        self._told_upto = [len(some) for some in self.model.messages]

    _told_upto: Sequence[int] = (0, 0, 0)

    def low(self, n: int) -> int:
        return self._told_upto[n]

    def _told(self, one: Notice) -> Told:
        return self.places.index(one.conversation_id), one.seq, one.user_id


USER, OTHERS = st.sampled_from(CREW), st.sets(st.sampled_from(CREW))
WHERE, SEQ = st.sampled_from([0, 0, 0, 1, 2]), st.integers(1, 3)
DEEDS = st.one_of(
    st.tuples(st.just("post"), WHERE, USER, OTHERS, st.sampled_from([1, 1, 1, 3])),
    st.tuples(st.just("edit"), WHERE, SEQ, OTHERS),
    st.tuples(st.just("remove"), WHERE, SEQ),
    st.tuples(st.just("read"), WHERE, USER, SEQ),
    st.tuples(st.just("prefer"), WHERE, USER, st.sampled_from(["all", "mentions", "none"])),
    st.tuples(st.sampled_from(["block", "unblock"]), WHERE, USER, USER),
    st.tuples(st.sampled_from(["leave", "join"]), WHERE, st.sampled_from(["odd", "kaz"])),
    st.tuples(st.just("tell"), st.sampled_from([0, 0, 1, 2])),
    st.tuples(st.just("tell"), st.just(0)),
    st.tuples(st.just("edit"), WHERE, SEQ, OTHERS),
    st.tuples(st.just("post"), WHERE, USER, OTHERS, st.just(1)),
    st.tuples(st.just("keep")),
    st.tuples(st.just("trim")),
)  # fmt: skip


@example(deeds=[("post", 0, "mara", set(), 1), ("tell", 0), ("edit", 0, 1, {"odd"})], kill_at=0)
@settings(max_examples=200, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(deeds=st.lists(DEEDS, min_size=10, max_size=30), kill_at=st.integers(0, 2))
async def test_everyone_is_told_of_what_they_want_and_of_nothing_else(
    database: Database, deeds: list[tuple[Any, ...]], kill_at: int
) -> None:
    places = [await a_place(database, mara="owner", odd="writer", kaz="writer") for _ in range(3)]
    async with database.read() as connection:
        at = await snapshots.now(connection)
    scene = Scene(database, places, at)
    for kind, *rest in deeds:
        if kind == "tell":
            await scene.tell(rest[0])
        elif kind == "keep":
            scene.kept = scene.process.position
        elif kind == "trim":  # as long after: the journal does not reach back
            while await journal.trim(database, timedelta(seconds=-60)):
                pass
        else:
            await scene.do(kind, *rest)
    await scene.tell(kill_at)


async def test_a_long_absence_is_caught_up_with_in_bounded_parts(database: Database) -> None:
    places = sorted([await a_place(database, mara="owner", odd="writer", kaz="writer") for _ in range(3)])
    async with database.read() as connection:
        at = await snapshots.now(connection)
    scene = Scene(database, places, at)
    await scene.do("prefer", 0, "odd", "all")
    await scene.do("prefer", 1, "kaz", "all")
    for n in range(2):
        for _ in range(7):
            await scene.writer.submit([Post(places[n], "mara", "a word") for _ in range(300)])
    while await journal.trim(database, timedelta(seconds=-60)):
        pass
    sizes, got = list[int](), list[Notice]()
    while (batch := await scene.process.next()) is not None:
        sizes.append(len(batch.notices))
        got += batch.notices
        batch.done()
    assert [(one.user_id, one.seq) for one in got] == [(u, n) for u in ("odd", "kaz") for n in range(1, 2_101)]
    assert max(sizes) <= limits.NOTICES_AT_ONCE
    assert not scene.process.position.sees(at.xmax - 1) or scene.process.position.xmin >= at.xmin


async def test_what_is_too_young_waits_and_what_came_before_it_does_not(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(noticing, "_EVERY_SECONDS", 0.01)
    place = await a_place(database, mara="owner", odd="writer")
    async with database.read() as connection:
        at = await snapshots.now(connection)
    moves = Moves(StoreSource(database, 1000))
    process = Noticing(database, moves, at, subscribed=False, delay=timedelta(seconds=0.5))
    writer = Writer(database)
    await prefer(database, Caller("odd"), place, "odd", {"notify": "all"})
    got: list[int] = []
    midway: AllPosition | None = None
    posted = 0
    while len(got) < 300:
        if posted < 300:
            await writer.submit([Post(place, "mara", "a word")])
            posted += 1
        batch = await process.next()
        if batch is not None:
            got += [one.seq for one in batch.notices]
            batch.done()
            if midway is None and posted > len(got) > 100:  # the next are too young
                midway, told = process.position, len(got)
    assert got == list(range(1, 301))
    assert midway is not None
    # Whoever takes over there tells of what was left, and of little that was told.
    other, again = Noticing(database, moves, midway, subscribed=False, delay=timedelta(0)), list[int]()
    while (batch := await other.next()) is not None:
        again += [one.seq for one in batch.notices]
        batch.done()
    assert again == list(range(again[0], 301))
    assert 10 < again[0] <= told + 1


async def test_what_was_kept_holds_in_another_history_and_what_is_in_mind_does_not(database: Database) -> None:
    place = await a_place(database, mara="owner", odd="writer")
    async with database.read() as connection:
        at = await snapshots.now(connection)
    scene = Scene(database, [place], at)
    await prefer(database, Caller("odd"), place, "odd", {"notify": "all"})
    await scene.writer.submit([Post(place, "mara", "one")])
    assert [one.seq for one in await drained(scene.process)] == [1]
    scene.kept = scene.process.position
    await scene.writer.submit([Post(place, "mara", "two")])
    async with database.read() as connection:
        await epochs.begin(connection, set_back=connection.history.known.present)
    posted = False
    while not posted:
        with suppress(Problem):
            posted = bool(await scene.writer.submit([Post(place, "mara", "three")]))
    with pytest.raises(LeaseLost):
        while True:
            await scene.process.next()
    assert [one.seq for one in await drained(scene.begun())] == [2, 3]
    # Loaded from a dump, transactions are counted anew: then it begins with the present.
    ahead = replace(scene.kept, epoch=0, xmin=2**40 + 5, xmax=2**40 + 5)
    other = Noticing(database, Moves(StoreSource(database, 1000)), ahead, subscribed=False, delay=timedelta(0))
    assert await drained(other) == []
    await scene.writer.submit([Post(place, "mara", "four")])
    assert [one.seq for one in await drained(other)] == [4]


async def test_a_message_that_falls_due_while_one_blocks_the_other_is_never_told(database: Database) -> None:
    await a_place(database, mara="owner")  # in which nobody blocks anybody
    one, other = sorted((unique("mara"), unique("odd")))
    place = await make_pair(database, one, other)
    async with database.read() as connection:
        at = await snapshots.now(connection)
    scene = Scene(database, [place], at)

    async def told() -> list[int]:
        return [notice.seq for notice in await drained(scene.process)]

    async def post() -> None:
        await scene.writer.submit([Post(place, one, "a word")])

    await post()
    assert await told() == [1]
    await post()  # and falls due while they are blocked
    await blocks.put(database, other, one)
    assert await told() == []
    await blocks.delete(database, other, one)
    assert await told() == []
    await post()
    assert await told() == [3]


async def drained(process: Noticing) -> list[Notice]:
    """All that is to be told."""
    got, idle = list[Notice](), 0
    while idle < 3:
        batch = await process.next()
        idle = idle + 1 if batch is None else 0
        if batch is not None:
            got += batch.notices
            batch.done()
    return got
