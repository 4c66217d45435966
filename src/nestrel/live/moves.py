"""Recent moves of conversations, in the memory of a process. It answers what has moved since a snapshot, so that a
checkpoint, or a return that finds little, does not look at every conversation."""

from __future__ import annotations

import asyncio
from collections import OrderedDict, deque
from collections.abc import Collection, Iterator
from dataclasses import dataclass
from itertools import islice
from typing import NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import AllPosition
from nestrel.live.source import Source


class _Move(NamedTuple):
    """The newest move of a conversation: `upto` is the end of the snapshot with which it was read."""

    xid: int
    rev: int
    upto: int


class _Joining(NamedTuple):
    xid: int
    conversation_id: UUID
    user_id: str
    upto: int


@dataclass(frozen=True, slots=True)
class Recent:
    """What is seen now and was not by an earlier snapshot: the conversations that moved, each with its `rev`; and who
    joined which, all of them where it is a snapshot that this process has taken itself."""

    moved: dict[UUID, int]
    joined: list[tuple[UUID, str]]


class Moves:
    """The newest moves that the store tells of, up to a bound; read on when somebody asks, once for all who ask at one
    moment. A snapshot that is older than what is kept here has no answer, nor has one of another history."""

    def __init__(self, source: Source, most: int = limits.RECENT_MOVES) -> None:
        self._source = source
        self._most = most
        self._now: AllPosition | None = None
        self._known_from = 0
        """From this transaction on nothing is missing here."""
        self._forgotten = 0
        self._running: frozenset[int] = frozenset()
        self._moves: OrderedDict[UUID, _Move] = OrderedDict()
        self._joinings: deque[_Joining] = deque()
        self._reading: asyncio.Task[AllPosition] | None = None
        self._next: asyncio.Task[AllPosition] | None = None

    def forget(self) -> None:
        """The database has another history."""
        self._forgotten += 1
        self._known_from = 0
        self._now = None
        self._moves.clear()
        self._joinings.clear()

    async def since(self, at: AllPosition, most: int | None = None) -> tuple[AllPosition, Recent | None]:
        """A snapshot that is no older than the call, and what moved up to it since an earlier one; None where that is
        not known here, or is more than `most` conversations.

        Raises:
            StoreUnavailable: the database is away.
        """
        now = await self.read_on()
        if self._now is None or at.epoch != self._now.epoch or at.xmin < self._known_from:
            return now, None
        # What others have read on meanwhile is newer than `now`, and told all the same.
        moved: dict[UUID, int] = {}
        for id_, move in self._since(at):
            if len(moved) == most:
                return now, None
            moved[id_] = move.rev
        joined = []
        for joining in reversed(self._joinings):
            if joining.upto <= at.xmin:
                break
            if not at.sees(joining.xid):
                joined.append((joining.conversation_id, joining.user_id))
        return now, Recent(moved, joined)

    def of(self, at: AllPosition, ids: Collection[UUID]) -> dict[UUID, int] | None:
        """Which of some conversations have moved since an earlier snapshot, up to the newest that was read here, each
        with its `rev`; None where that is not known here."""
        now = self._now
        if now is None or at.epoch != now.epoch or at.xmin < self._known_from or at.xmax > now.xmax or at.lsn > now.lsn:
            return None
        if len(lately := list(islice(self._since(at), len(ids)))) < len(ids):
            mine = set(ids) if lately else ids
            return {id_: move.rev for id_, move in lately if id_ in mine}
        moves, found = self._moves, dict[UUID, int]()
        for id_ in ids:
            move = moves.get(id_)
            if move is not None and not at.sees(move.xid):
                found[id_] = move.rev
        return found

    def _since(self, at: AllPosition) -> Iterator[tuple[UUID, _Move]]:
        for id_ in reversed(self._moves):
            move = self._moves[id_]
            if move.upto <= at.xmin:
                return  # that snapshot saw all that this one did, and all that was read before it
            if not at.sees(move.xid):
                yield id_, move

    async def read_on(self) -> AllPosition:
        """A snapshot that is no older than the call, up to which everything is known. One question is under way at a
        time; whoever asks while it is needs the next one, which they share.

        Raises:
            StoreUnavailable: the database is away.
        """
        if self._reading is None:
            task = self._reading = self._start(None)
        elif self._next is None:
            task = self._next = self._start(self._reading)
        else:
            task = self._next
        return await asyncio.shield(task)

    def _start(self, behind: asyncio.Task[AllPosition] | None) -> asyncio.Task[AllPosition]:
        task = asyncio.ensure_future(self._read(behind))
        task.add_done_callback(self._done)
        return task

    def _done(self, task: asyncio.Task[AllPosition]) -> None:
        if self._reading is task:
            self._reading, self._next = self._next, None
        if not task.cancelled():
            task.exception()  # whoever asked has it; nobody may be left who did

    async def _read(self, behind: asyncio.Task[AllPosition] | None) -> AllPosition:
        if behind is not None:
            await asyncio.wait([behind])
        forgotten = -1
        while forgotten != self._forgotten:
            forgotten = self._forgotten
            found = await self._source.tail(self._now)
        now = found.now
        if not found.whole:
            self.forget()
            self._known_from = now.xmax
        else:
            # What had not been seen by then may have gone before it was read, where nobody read for very long.
            if self._now is None or found.trimmed >= self._now.xmin:
                self._known_from = max(self._known_from, found.trimmed + 1)
            self._take(found.moved, found.joined, now.xmax)
        self._now = now
        return now

    async def tell_apart(self) -> None:
        """Find out about transactions that were running when this was called before, and still are; others' are not
        waited for.

        Raises:
            StoreUnavailable: the database is away.
        """
        running = frozenset(self._now.running) if self._now is not None else frozenset()
        long, self._running = running & self._running, running
        if long:
            await self._source.tell_apart(long)

    async def stop(self) -> None:
        tasks = [task for task in (self._reading, self._next) if task is not None]
        for task in tasks:
            task.cancel()
        if tasks:
            await asyncio.wait(tasks)

    def _take(self, moved: list[tuple[int, UUID, int]], joined: list[tuple[int, UUID, str]], upto: int) -> None:
        for xid, id_, rev in moved:
            held = self._moves.get(id_)
            if held is None or held.rev <= rev:
                self._moves[id_] = _Move(xid, rev, upto)
                self._moves.move_to_end(id_)
        self._joinings += [_Joining(*one, upto) for one in joined]
        while len(self._moves) > self._most:
            self._known_from = max(self._known_from, self._moves.popitem(last=False)[1].upto)
        while len(self._joinings) > self._most:
            self._known_from = max(self._known_from, self._joinings.popleft().upto)
