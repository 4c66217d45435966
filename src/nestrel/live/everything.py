"""What one connection of a backend is sent that follows every conversation of the store, or of one kind.

It follows no conversation at the hub: what has moved is read from the store, as for a webhook, so that a line costs the
same in a store of ten conversations and of a million. It stands at a snapshot, and whatever is not taken stays there.
"""

from __future__ import annotations

import asyncio
import time
from collections import deque
from collections.abc import Awaitable, Callable
from uuid import UUID

import structlog

from nestrel.core.cursors import AllPosition, CursorSeal
from nestrel.core.problems import Problem
from nestrel.core.roles import Kind
from nestrel.live import metrics
from nestrel.live.deliveries import Checkpoint, Delivery, Ended, Event, Rewound
from nestrel.live.moves import Moves
from nestrel.store.read.moving import Item, Moving, Position

log = structlog.get_logger()

_LOOK_SECONDS = 0.05
"""How often it is looked for what has moved; all lines of a process share the question."""
_RETRY_SECONDS = 1.0
_KNOWN_MOVES = 2_000

Read = Callable[[Position, Kind | None], Awaitable[Moving]]


def scope_of(user_id: str, kind: Kind | None) -> str:
    """Whom an all cursor of such a line is for: the same backend, asking for the same, and nobody else. No user id has
    a NUL in it."""
    return f"{user_id}\x00{kind or 'all'}"


def _epoch_of(at: Position) -> int:
    return at.epoch if isinstance(at, AllPosition) else at.upto.epoch


class Everything:
    """`stirred` is called whenever `next` may have something, `delivered` with each change set that it gives."""

    def __init__(
        self,
        read: Read,
        moves: Moves,
        seal: Callable[[], CursorSeal],
        user_id: str,
        kind: Kind | None,
        stirred: Callable[[], None],
        delivered: Callable[[UUID, str], None],
        checkpoint_seconds: float,
    ) -> None:
        self.kind = kind
        self._read = read
        self._moves = moves
        self._seal = seal
        self._user_id = user_id
        self._stirred = stirred
        self._delivered = delivered
        self._checkpoint_seconds = checkpoint_seconds
        self._at: Position | None = None
        self._items: deque[Item] = deque()
        self._moved = False
        self._owed = True
        """One checkpoint says that it is up to date, also where nothing came."""
        self._said_at = float("-inf")
        self._looking: asyncio.Task[None] | None = None

    async def begin(self, since: AllPosition | None) -> AllPosition:
        """Begin at a snapshot, or at one that is no older than the call; which it is. Raises `StoreUnavailable`."""
        now = await self._moves.read_on()
        self._at, self._moved = since or now, since is not None
        self._looking = asyncio.create_task(self._look(), name="everything")
        self._stirred()
        return since or now

    def end(self) -> None:
        """The connection has ended, or may follow everything no more."""
        if self._looking is not None:
            self._looking.cancel()
        self._items.clear()
        self._moved = self._owed = False
        self._at = None

    async def _look(self) -> None:
        """Look for what has moved, until cancelled. Nothing is read before it can be sent."""
        while True:
            try:
                at = self._at
                if isinstance(at, AllPosition) and not self._moved and not self._items:
                    now, recent = await self._moves.since(at, _KNOWN_MOVES)
                    if self._at is at:
                        self._moved = recent is None or bool(recent.moved)
                        if not self._moved:
                            self._at = now
                if self.pending:
                    self._stirred()
            except Exception as error:  # whatever it is, the line goes on where it stands
                log.warning("everything.not_looked", reason=str(error))
                await asyncio.sleep(_RETRY_SECONDS)
            await asyncio.sleep(_LOOK_SECONDS)

    @property
    def pending(self) -> bool:
        """Whether `next` would give something, or might."""
        return bool(self._items) or self._moved or self._due

    @property
    def _due(self) -> bool:
        """Whether a checkpoint is to be sent: all up to a snapshot has been, and the last one is a while ago."""
        late = time.monotonic() - self._said_at >= self._checkpoint_seconds
        return self._owed and late and not self._moved and isinstance(self._at, AllPosition)

    async def next(self) -> Event | None:
        """What is to be sent next, None for nothing now. What it gives counts as sent."""
        while True:
            if self._items:
                return self._given(self._items.popleft())
            if not self._moved or self._at is None:
                break
            try:
                found = await self._read(self._at, self.kind)
            except Problem as problem:
                log.warning("everything.not_read", reason=str(problem))
                self._moved = False
                asyncio.get_running_loop().call_later(_RETRY_SECONDS, self._again)
                return None
            if self._at is None:
                return None  # ended meanwhile
            rewound = _epoch_of(found.position) != _epoch_of(self._at)
            self._at, self._moved = found.position, found.more
            self._items.extend(found.items)
            self._owed = self._owed or bool(found.items)
            if rewound:
                return Rewound()
        if not self._due:
            return None
        assert isinstance(self._at, AllPosition)
        self._owed, self._said_at = False, time.monotonic()
        return Checkpoint(self._seal().all(scope_of(self._user_id, self.kind), self._at))

    def _again(self) -> None:
        if self._at is not None:
            self._moved = True
            self._stirred()

    def _given(self, item: Item) -> Event:
        if item.changes is None:
            return Ended(item.conversation_id, "closed")
        seal, changes = self._seal(), item.changes
        start = None if changes.reset else changes.start
        base = None if start is None else seal.conversation(self._user_id, item.conversation_id, start)
        metrics.DELIVERIES.inc()
        self._delivered(item.conversation_id, self._user_id)
        return Delivery(
            base, seal.conversation(self._user_id, item.conversation_id, changes.end), changes.tail(), read=True
        )
