"""What moved lately: the journal in the store, the moves in a process's memory, and that neither leaves any out."""

from __future__ import annotations

import asyncio
from datetime import timedelta
from uuid import UUID

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from nestrel.core.callers import Caller
from nestrel.core.commands import Edit, Post, React, Read, Remove
from nestrel.core.cursors import AllPosition
from nestrel.core.durations import Duration
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.retention import Rule
from nestrel.live.moves import Moves
from nestrel.live.source import StoreSource
from nestrel.store import epochs
from nestrel.store.database import Database
from nestrel.store.keep import journal as trimming
from nestrel.store.keep import retention
from nestrel.store.native import fetch
from nestrel.store.read import resync
from nestrel.store.read.journal import Tail
from nestrel.store.write import conversations, members, profiles
from nestrel.store.write.writer import Writer
from tests.support import make_place

ROOMS = [UUID(int=n) for n in range(1, 8)]


class Past:
    """A store in which transactions begin, move one conversation, and commit in any order. As under the conversation's
    lock, a conversation's moves commit in the order of its `rev`."""

    def __init__(self, most: int) -> None:
        self.next = 10
        self.trimmed = 9
        self.running: dict[int, UUID] = {}
        self.revs = dict.fromkeys(ROOMS, 0)
        self.journal: list[tuple[int, UUID, int]] = []
        self.most = most

    def snapshot(self) -> AllPosition:
        running = tuple(sorted(self.running))
        return AllPosition(1, 0, min(running, default=self.next), self.next, running)

    def begin(self, room: UUID) -> None:
        if room not in self.running.values():
            self.running[self.next] = room
            self.next += 1

    def commit(self, nth: int) -> None:
        if self.running:
            xid = sorted(self.running)[nth % len(self.running)]
            room = self.running.pop(xid)
            self.revs[room] += 1
            self.journal.append((xid, room, self.revs[room]))

    def trim(self) -> None:
        """Everything that a snapshot of now has seen may go."""
        cut = self.snapshot().xmin - 1
        self.trimmed = max(self.trimmed, cut)
        self.journal = [one for one in self.journal if one[0] > cut]

    async def tail(self, since: AllPosition | None) -> Tail:
        await asyncio.sleep(0)
        unseen = [one for one in sorted(self.journal) if since is None or not since.sees(one[0])]
        return Tail(self.snapshot(), self.trimmed, unseen[: self.most], whole=len(unseen) < self.most)

    def moved(self, since: AllPosition, all_: list[tuple[int, UUID, int]]) -> dict[UUID, int]:
        """By the rows themselves: the last transaction to move each is one that the snapshot has not seen."""
        last = {room: (xid, rev) for xid, room, rev in all_}
        return {room: rev for room, (xid, rev) in last.items() if not since.sees(xid)}


steps = st.lists(
    st.one_of(
        st.tuples(st.just("begin"), st.sampled_from(ROOMS)),
        st.tuples(st.just("commit"), st.integers(0, 6)),
        st.tuples(st.sampled_from(["read", "trim", "forget", "ask"]), st.integers(0, 30)),
    ),
    max_size=80,
)


@settings(max_examples=600)
@example([("begin", ROOMS[0]), ("read", 0), ("commit", 0), ("trim", 0), ("ask", 0)], 1, 2)  # a process that stood still
@given(steps, st.integers(1, 8), st.integers(2, 12))
def test_what_moved_is_told_whole_or_not_at_all(steps: list[tuple[str, object]], most: int, rows: int) -> None:
    """Whatever the order of commits, and however little is kept."""

    async def play() -> None:
        past = Past(rows)
        moves = Moves(past, most)  # type: ignore[arg-type]  # the part of a source that it uses
        every: list[tuple[int, UUID, int]] = []
        snapshots = [past.snapshot()]
        for what, value in steps:
            before = len(past.journal)
            if what == "begin":
                assert isinstance(value, UUID)
                past.begin(value)
            elif what == "commit":
                assert isinstance(value, int)
                past.commit(value)
                every += past.journal[before:]
            elif what == "read":
                await moves.read_on()
                snapshots.append(past.snapshot())
            elif what == "trim":
                past.trim()
            elif what == "forget":
                moves.forget()
            else:
                assert isinstance(value, int)
                since = snapshots[value % len(snapshots)]
                now, recent = await moves.since(since)
                assert now == past.snapshot()
                if recent is not None:
                    assert recent.moved == past.moved(since, every), (steps, most, rows)
        # What was read a moment ago and is asked for now is known, unless it is more than is read at one time.
        while past.running:
            past.commit(0)
        await moves.read_on()
        now = await moves.read_on()
        past.begin(ROOMS[0])
        past.commit(0)
        assert (await moves.since(now))[1] is not None

    asyncio.run(play())


async def test_whoever_asks_while_a_question_is_under_way_gets_the_next_answer() -> None:
    """It is as new as the asking, and one for all who ask meanwhile."""
    asked: list[asyncio.Future[Tail]] = []

    class Slow:
        async def tail(self, _since: AllPosition | None) -> Tail:
            asked.append(asyncio.get_running_loop().create_future())
            return await asked[-1]

    def tail(xmax: int) -> Tail:
        return Tail(AllPosition(1, 0, xmax, xmax), 0)

    moves = Moves(Slow())  # type: ignore[arg-type]  # the part of a source that it uses
    first = asyncio.ensure_future(moves.read_on())
    while not asked:
        await asyncio.sleep(0)
    later = [asyncio.ensure_future(moves.read_on()) for _ in range(5)]
    later[0].cancel()  # whoever goes takes nobody's answer along
    await asyncio.sleep(0)
    asked[0].set_result(tail(20))
    assert (await first).xmax == 20
    while len(asked) < 2:
        await asyncio.sleep(0)
    asked[1].set_result(tail(30))
    assert [one.xmax for one in await asyncio.gather(*later[1:])] == [30] * 4
    failing = asyncio.ensure_future(moves.read_on())
    while len(asked) < 3:
        await asyncio.sleep(0)
    asked[2].set_exception(OSError("away"))
    with pytest.raises(OSError, match="away"):
        await failing
    again = asyncio.ensure_future(moves.read_on())
    while len(asked) < 4:
        await asyncio.sleep(0)
    asked[3].set_result(tail(40))
    assert (await again).xmax == 40


async def everything_that_moves(database: Database) -> list[UUID]:
    """Each way in which a conversation moves, once; returns those that did."""
    mara = Caller("mara")
    places = [await make_place(database, mara="owner", odd="writer") for _ in range(6)]
    writer = Writer(database)
    posted, joined, left, titled, closed, read = places
    for place in (posted, read):
        await writer.submit([Post(place, "mara", f"{n}", key=f"k{n}") for n in range(6)])
    await writer.submit([Edit(posted, "mara", 2, "two"), React(posted, "odd", 3, "like", True)])
    await writer.submit([Remove(posted, "mara", 4), Read(read, "odd", 3)])
    await members.put(database, mara, joined, "petra", None, DEFAULT_QUOTAS)
    await members.end(database, mara, left, "odd")
    await conversations.change(database, mara, titled, {"title": "Quay"})
    await profiles.first_sight(database, "odd", "Odd", None)
    await profiles.change(database, "odd", {"display_name": "Odd Ness"})
    while await profiles.go_on(database):
        pass
    await conversations.close(database, mara, closed)
    await retention.put(database, posted, Rule(keep_last=2), confirmed=True)
    await retention.put(database, read, Rule(keep_for=Duration.parse("P1Y")), confirmed=True)
    return places


async def test_nothing_moves_beside_the_journal(database: Database) -> None:
    moves = Moves(StoreSource(database, 1_000))
    start = await moves.read_on()
    places = await everything_that_moves(database)
    now, recent = await moves.since(start)
    async with database.read() as connection:
        rows = await fetch(connection, "SELECT id, rev, moved_xid FROM nestrel.conversations ORDER BY id")
        _, walked = await resync.moved(connection, "odd", start)
        _, probed = await resync.moved(connection, "odd", start, these=list(recent.moved) if recent else [])
    assert recent is not None
    assert recent.moved == {row[0]: row[1] for row in rows}
    assert set(recent.moved) == set(places)
    assert all(now.sees(row[2]) and not start.sees(row[2]) for row in rows)
    assert {user for _, user in recent.joined} == {"mara", "odd", "petra"}
    assert walked == probed
    assert len(walked) == len(places)


async def test_what_is_trimmed_is_walked(database: Database) -> None:
    """A snapshot of before is one of which nothing is known, in this process and in one that begins now."""
    moves = Moves(StoreSource(database, 1_000))
    start = await moves.read_on()
    place = await make_place(database, mara="owner")
    middle = await moves.read_on()
    assert not await trimming.trim(database)  # nothing is old
    async with database.read() as connection:
        assert len(await fetch(connection, "SELECT FROM nestrel.journal")) == 1
    while await trimming.trim(database, timedelta(0)):
        pass
    late = Moves(StoreSource(database, 1_000))
    assert (await late.since(start))[1] is None
    _, recent = await late.since(middle)
    assert recent is not None
    assert recent.moved == {}
    _, kept = await moves.since(start)  # which has it in its memory still
    assert kept is not None
    assert set(kept.moved) == {place}
    async with database.read() as connection:
        assert await fetch(connection, "SELECT FROM nestrel.journal") == []


async def test_another_history_has_no_journal_yet(database: Database) -> None:
    start = await Moves(StoreSource(database, 1_000)).read_on()
    await make_place(database, mara="owner")
    async with database.read() as connection:
        await epochs.begin(connection, set_back=start.epoch)
        assert await fetch(connection, "SELECT FROM nestrel.journal") == []
    now, recent = await Moves(StoreSource(database, 1_000)).since(start)
    assert recent is None
    assert now.epoch != start.epoch
