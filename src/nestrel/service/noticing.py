"""What is to be noticed, on a consumer of the journal: three seconds after it was posted, in the order of each
conversation, at least once; who is told is decided when it is sent.

In memory are conversations that have moved and may have something new, and up to where what is new in others was told;
never messages. What one stands at is the snapshot before all that is left.
"""

from __future__ import annotations

import math
import time
from collections import OrderedDict, deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import AllPosition
from nestrel.core.notices import DELAY, Notice
from nestrel.core.roles import Kind
from nestrel.live.moves import Moves
from nestrel.service.consumers import LeaseLost
from nestrel.store import snapshots
from nestrel.store.database import Database
from nestrel.store.read import noticing
from nestrel.store.read.noticing import Look, NewMessages, RecipientPosition
from nestrel.store.read.resync import NOTHING

_KNOWN_MOVES = 2_000
_KNOWN = 50_000
_TOGETHER = 200
_EVERY_SECONDS = 0.1
_TRAIL = 64
_TICK_SECONDS = 0.5
_MARGIN = timedelta(seconds=15)
"""How far the clocks of a process and of its database, and the beginning and the end of a transaction, may be apart."""


class _Mark(NamedTuple):
    """A snapshot, by its number here: it was taken no later than `at`."""

    n: int
    at: float
    time: datetime
    position: AllPosition


@dataclass(slots=True)
class _Waiting:
    """A conversation that is looked at when it is `due`; nothing that `since` has seen is left of it."""

    due: float
    since: _Mark


@dataclass(slots=True)
class _Part:
    """What is left to tell of in a conversation: messages by their numbers, of the first those behind `after`; or
    `named`, the people whom edits have named."""

    id: UUID
    kind: Kind
    members: int
    seqs: Sequence[int]
    named: list[tuple[int, str]]
    after: str = ""


@dataclass(frozen=True, slots=True)
class Batch:
    """Some notices that are to be sent now, and what is done with them."""

    notices: list[Notice]
    done: Callable[[], None]


class Noticing:
    """What is to be noticed from a position on, of all conversations or of `only` one; `subscribed`: by people who have
    a device."""

    def __init__(
        self, database: Database, moves: Moves, at: AllPosition, only: UUID | None = None, *, subscribed: bool,
        delay: timedelta = DELAY,
    ) -> None:  # fmt: skip
        self._database = database
        self._moves = moves
        self._only = only
        self._subscribed = subscribed
        self._delay = delay
        self._mark = _Mark(0, float("-inf"), datetime.now(UTC), at)
        self._reads = True
        self._began = False
        self._walk: tuple[AllPosition, UUID] | None = None
        self._trail: deque[_Mark] = deque(maxlen=_TRAIL)
        self._waiting: dict[UUID, _Waiting] = {}
        self._told: OrderedDict[UUID, tuple[int, _Mark]] = OrderedDict()
        self._round: deque[_Part] = deque()
        self._looked: dict[UUID, tuple[NewMessages, float]] = {}
        self._looked_at: _Mark | None = None

    @property
    def position(self) -> AllPosition:
        """All that this has seen has been told of."""
        return min((one.since for one in self._waiting.values()), key=lambda one: one.n, default=self._mark).position

    async def next(self) -> Batch | None:
        """Some that are to be sent now, or none of what was looked at; None if there was nothing to look at. Whoever
        has sent them calls `done`; until then the same come again, as they stand then."""
        if not self._round:
            if self._reads:
                await self._read_on()
            await self._look()
        return await self._decide() if self._round else None

    def tell_of(self, lows: Sequence[tuple[UUID, int]]) -> None:
        """Tell of messages of some conversations, each from one on, and of nothing else."""
        self._reads = False
        for id_, low in lows:
            self._waiting[id_] = _Waiting(float("-inf"), self._mark)
            self._told[id_] = low - 1, self._mark

    def pass_over(self, at: AllPosition) -> None:
        """Of what was seen by then nobody is to be told."""
        self._mark = _Mark(self._mark.n + 1, time.monotonic(), datetime.now(UTC), at)
        self._waiting.clear()
        self._round.clear()
        self._walk = None
        self._began = True

    # What has moved

    async def _read_on(self) -> None:
        now = time.monotonic()
        if now - self._mark.at < _EVERY_SECONDS or len(self._waiting) >= limits.NOTICES_WAITING:
            return
        if not self._began:
            async with self._database.snapshot() as connection:
                first = await noticing.began(connection, self._mark.position)
            self._mark = self._mark._replace(time=first or datetime.now(UTC))
            self._began = True
        at, recent = await self._moves.since(self._mark.position, _KNOWN_MOVES)
        if at.epoch != self._mark.position.epoch:
            self._meet(at)
            return
        if self._walk is None and recent is not None:
            self._moved([one for one in recent.moved if self._only in (None, one)])
        else:
            async with self._database.snapshot() as connection:
                upto, after = self._walk or (None, NOTHING)
                ids, last, present = await noticing.moved(connection, self._mark.position, after, self._only)
            self._moved(ids)
            at = upto or present
            self._walk = (at, last) if last is not None else None
        if self._walk is None:
            self._mark = _Mark(self._mark.n + 1, time.monotonic(), datetime.now(UTC), at)
            self._trail.append(self._mark)

    def _meet(self, at: AllPosition) -> None:
        """The database has another history than the position is of. Where one has just begun from what was kept there,
        that was kept in this history too; transactions that it has not come to tell that it was loaded from a dump."""
        if self._mark.n:
            raise LeaseLost("what is in mind may be of a history that is lost")
        kept = self._mark.position
        since = replace(kept, epoch=at.epoch, lsn=at.lsn) if kept.xmax <= at.xmax else at
        self._mark = self._mark._replace(position=since)

    def _moved(self, ids: list[UUID]) -> None:
        due = self._due(time.monotonic())
        for id_ in ids:
            self._waiting.setdefault(id_, _Waiting(due, self._mark))

    def _due(self, made: float) -> float:
        """When to look at a conversation with something that was made then: many together, and none all the time."""
        return math.ceil((made + self._delay.total_seconds()) / _TICK_SECONDS) * _TICK_SECONDS

    # What is new there

    async def _look(self) -> None:
        now = time.monotonic()
        due = [id_ for id_, one in self._waiting.items() if one.due <= now][:_TOGETHER]
        if not due:
            return
        looks = []
        for id_ in due:
            base, mark = self._told.get(id_, (None, self._waiting[id_].since))
            looks.append(Look(id_, mark.position.snapshot, mark.time - _MARGIN, base))
        async with self._database.snapshot() as connection:
            found = await noticing.look(connection, looks, self._delay)
            position = await snapshots.now(connection)
        self._looked_at = self._mark._replace(time=datetime.now(UTC), position=position)
        self._looked = {}
        for id_ in due:
            one = found.get(id_)
            if one is None:
                del self._waiting[id_]
                continue
            self._looked[id_] = one, now
            self._round.append(_Part(id_, one.kind, one.members, one.seqs, one.named))

    async def _decide(self) -> Batch:
        """Who is told of the next messages: of some conversations together, or of some people in one of many."""
        parts = list[_Part]()
        some, everyone, alone = list[RecipientPosition](), list[RecipientPosition](), list[RecipientPosition]()
        room = limits.NOTICES_AT_ONCE
        taken = dict[UUID, Sequence[int]]()
        for part in self._round:
            if room <= 0:
                break
            parts.append(part)
            alone += [RecipientPosition(part.id, seq, user_id) for seq, user_id in part.named]
            each = 1 if part.kind is Kind.GROUP else max(1, part.members)
            seqs = taken[part.id] = part.seqs[: max(room // each, 1)]
            of = some if part.kind is Kind.GROUP else everyone
            of += [RecipientPosition(part.id, seq, "" if n else part.after) for n, seq in enumerate(seqs)]
            room -= each * len(seqs) + len(part.named)
        async with self._database.snapshot() as connection:
            found = await noticing.alone(connection, alone)
            for read, asked in ((noticing.some, some), (noticing.everyone, everyone)):
                found += await read(connection, asked, limits.NOTICES_AT_ONCE, subscribed=self._subscribed)
        full = dict[tuple[UUID, int], list[str]]()
        for notice in found:
            full.setdefault((notice.conversation_id, notice.seq), []).append(notice.user_id)

        def done() -> None:
            for part in parts:
                self._forward(part, taken[part.id], full)

        return Batch(found, done)

    def _forward(self, part: _Part, seqs: Sequence[int], full: dict[tuple[UUID, int], list[str]]) -> None:
        """Some messages of a conversation have been told of; of one that has many readers some of those."""
        part.named = []
        for n, seq in enumerate(seqs):
            users = full.get((part.id, seq), [])
            if len(users) >= limits.NOTICES_AT_ONCE:
                part.seqs, part.after = part.seqs[n:], users[-1]
                return
        part.seqs, part.after = part.seqs[len(seqs) :], ""
        if not part.seqs:
            self._round.remove(part)
            self._over(part.id)

    def _over(self, id_: UUID) -> None:
        """All that was new in a conversation has been told of; what is too young yet waits."""
        assert self._looked_at is not None
        found, at = self._looked[id_]
        self._told[id_] = max(found.high, found.low - 1), self._looked_at
        self._told.move_to_end(id_)
        if len(self._told) > _KNOWN:
            self._told.popitem(last=False)
        before = self._waiting.pop(id_).since
        if found.age is None:
            return
        made = at - found.age
        since = max((one for one in self._trail if one.at <= made), key=lambda one: one.n, default=before)
        self._waiting[id_] = _Waiting(self._due(made), since if since.n > before.n else before)
