"""Webhooks as consumers of the journal: what has moved is sent as signed requests, and tried again until it is taken.

Every request holds the state of the moment at which it is sent, also one that is tried again: what was removed
meanwhile is not sent any more.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import AllPosition, CursorSeal, ResyncPosition
from nestrel.core.webhooks import Replay, State, Webhook
from nestrel.live.moves import Moves
from nestrel.service.consumers import Lease, LeaseLost
from nestrel.service.notice_webhooks import NoticeRequests
from nestrel.service.outbound import Answer, Outbound
from nestrel.service.sending import Request, Sender, owner
from nestrel.store.database import Database
from nestrel.store.keep import consumers
from nestrel.store.read import moving, replaying
from nestrel.store.read import webhooks as reading
from nestrel.store.read.moving import Position, ReaderProgress
from nestrel.store.write import webhooks

Notices = Callable[[UUID, Sender], NoticeRequests]

_PAUSE_SECONDS = 0.025
"""Between two looks at what has moved."""
_KEEP_SECONDS = 5.0
"""So often it is kept where one stands to whom nothing is sent."""
_KNOWN_MOVES = 2_000
_STALE_MS = 1_000
"""After so long what was read is read anew."""


class WebhookHandler:
    """One webhook. `now` is the clock by which it is tried again."""

    def __init__(
        self, id_: UUID, database: Database, moves: Moves, seal: Callable[[], CursorSeal], outbound: Outbound,
        now: Callable[[], datetime] = lambda: datetime.now(UTC), notices: Notices | None = None,
    ) -> None:  # fmt: skip
        self._id = id_
        self._database = database
        self._moves = moves
        self._seal = seal
        self._now = now
        self._sender = Sender(id_, database, seal, outbound, now)
        self._notices = notices(id_, self._sender) if notices is not None else None
        self._at: Position | None = None
        self._told: ReaderProgress | None = None
        self._begun: str | None = None
        self._webhook: Webhook | None = None
        self._live = self._moving = False
        self._kept = time.monotonic()

    async def step(self, lease: Lease) -> float:
        """Send what there is to send; the pause until there may be more."""
        hook = await self._look(lease)
        if hook.state is not State.ACTIVE:
            raise LeaseLost(lease.name)
        if hook.failing.next_at is not None:
            wait = (hook.failing.next_at - self._now()).total_seconds()
            if wait > 0:
                return min(wait, 1.0)
        if hook.type == "notices":
            assert self._notices is not None
            assert isinstance(self._at, AllPosition)
            pause = await self._notices.step(lease, hook, self._at, self._send)
            if self._notices.position is not None:
                await self._go_on(lease, self._notices.position)
            if hook.replay is not None:
                self._webhook = None
            return pause
        if hook.replay is not None and not self._live:
            self._live = True  # what is sent again does not hold up what is new
            return await self._replay(lease, hook, hook.replay)
        self._live = False
        assert self._at is not None
        # Where something has just moved, more is likely to have: it is read at once, and not asked about before.
        if not self._moving and hook.failing.attempt == 0 and isinstance(self._at, AllPosition):
            now, recent = await self._moves.since(self._at, _KNOWN_MOVES)
            ids = recent.moved.keys() if recent is not None else None
            if ids is not None and (not ids if hook.conversation_id is None else hook.conversation_id not in ids):
                await self._go_on(lease, now)
                return 0.0 if hook.replay is not None else _PAUSE_SECONDS
        async with self._database.snapshot() as connection:
            told = self._of(hook)
            read = await moving.read(connection, self._at, hook.conversation_id, limits.WEBHOOK_ROWS, told=told)
        self._moving = bool(read.items)
        for request in self._sender.requests(read.items, read.position):
            answer = await self._send(lease, hook, request)
            if self._webhook is None or answer.ms > _STALE_MS:
                return 0.0
        await self._go_on(lease, read.position)
        return 0.0 if read.more or hook.replay is not None else _PAUSE_SECONDS

    def _of(self, hook: Webhook) -> ReaderProgress:
        """What the receiver was told of, as far as is known here."""
        if self._told is None or self._begun != hook.begun:
            since = None if hook.begun is None else self._seal().open_all(owner(self._id), hook.begun)
            assert not isinstance(since, ResyncPosition)
            self._told, self._begun = ReaderProgress(since), hook.begun
        return self._told

    async def _replay(self, lease: Lease, hook: Webhook, replay: Replay) -> float:
        async with self._database.snapshot() as connection:
            found = await replaying.read(connection, replay, hook.conversation_id, limits.WEBHOOK_ROWS)
        parts = list(self._sender.bounded([("changes", self._sender.item(one)) for one in found.items]))
        for n, (type_, texts) in enumerate(parts):
            # What is left is known behind the last of them; until then all of this is sent again.
            rest = replay if n < len(parts) - 1 else found.rest
            await self._send(lease, hook, Request(type_, texts, None, rest))
            if self._webhook is None:
                return 0.0
        if not parts and not await webhooks.replayed(self._database, self._id, lease.number, found.rest):
            raise LeaseLost(lease.name)
        self._webhook = None
        return 0.0

    async def _look(self, lease: Lease) -> Webhook:
        """The webhook as it is: changing it ends the lease, so that it is read once, and when a request came to
        something."""
        if self._webhook is None:
            async with self._database.read() as connection:
                self._webhook, cursor = await reading.one(connection, self._id)
            if self._at is None:
                self._at = self._seal().open_all(owner(self._id), cursor)
        return self._webhook

    async def _go_on(self, lease: Lease, position: Position) -> None:
        """Nothing is left before a position; it is kept from time to time, and at once where one was sent to."""
        self._at = position
        if time.monotonic() - self._kept > _KEEP_SECONDS:
            await self.end(lease)

    async def end(self, lease: Lease) -> None:
        if self._at is None:
            return
        self._kept = time.monotonic()
        cursor = self._seal().all(owner(self._id), self._at)
        if not await consumers.keep(self._database, lease.name, lease.number, cursor):
            raise LeaseLost(lease.name)

    async def _send(self, lease: Lease, hook: Webhook, request: Request) -> Answer:
        """Send one; where that changes how the webhook stands, it is to be looked at before the next."""
        position = request.position or self._at
        assert position is not None
        answer = await self._sender.send(lease, hook, request, position)
        if answer.taken:
            self._at = position
            self._kept = time.monotonic()
        if hook.failing.attempt or not answer.taken:
            self._webhook = None
        return answer
