"""Webhooks that want notices: what would be pushed, and to whom, for an application's own mail and mobile gateways."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable
from dataclasses import replace
from uuid import UUID

import orjson

from nestrel.core import limits, notices
from nestrel.core.cursors import AllPosition
from nestrel.core.notices import Content
from nestrel.core.webhooks import Failing, Replay, Webhook
from nestrel.live.looking import Lookings
from nestrel.live.moves import Moves
from nestrel.service.consumers import Lease, LeaseLost
from nestrel.service.noticing import Batch, Noticing
from nestrel.service.outbound import Answer
from nestrel.service.sending import Request, Sender
from nestrel.store import snapshots
from nestrel.store.database import Database
from nestrel.store.read import noticing, replaying
from nestrel.store.read.noticing import RecipientPosition
from nestrel.store.write import webhooks

_PAUSE_SECONDS = 0.1
_STALE_SECONDS = 1.0
_TOGETHER = limits.WEBHOOK_ITEM_BYTES // (notices.BYTES + 150)
"""Notices of one request, with the person that each has beside it."""

Send = Callable[[Lease, Webhook, Request], Awaitable[Answer]]


class NoticeRequests:
    """Sends the notices of one webhook, from a position on; `send` sends one request. Without a body where the service
    pushes none."""

    def __init__(
        self, id_: UUID, database: Database, moves: Moves, sender: Sender, looking: Lookings, content: Content, url: str
    ) -> None:
        self._id = id_
        self._database = database
        self._moves = moves
        self._sender = sender
        self._looking = looking
        self._content = content
        self._url = url
        self._new: Noticing | None = None
        self._again: tuple[Noticing, Replay | None] | None = None

    @property
    def position(self) -> AllPosition | None:
        """Where it stands; None before it has begun."""
        return self._new.position if self._new is not None else None

    async def step(self, lease: Lease, hook: Webhook, at: AllPosition, send: Send) -> float:
        """Send what there is to send; the pause until there may be more."""
        if self._new is None:
            self._new = Noticing(self._database, self._moves, at, hook.conversation_id, subscribed=False)
        batch = await self._new.next()
        if batch is not None:
            await self._tell(lease, hook, batch, send)
        elif hook.replay is not None:
            await self._replay(lease, hook, hook.replay, send)
        return _PAUSE_SECONDS if batch is None and hook.replay is None else 0.0

    async def _tell(self, lease: Lease, hook: Webhook, batch: Batch, send: Send) -> None:
        assert self._new is not None
        read = time.monotonic()
        for n in range(0, len(batch.notices), _TOGETHER):
            some = batch.notices[n : n + _TOGETHER]
            if time.monotonic() - read > _STALE_SECONDS:  # as they stand now
                asked = [RecipientPosition(one.conversation_id, one.seq, one.user_id) for one in some]
                async with self._database.snapshot() as connection:
                    some = await noticing.alone(connection, asked)
            items = [
                orjson.dumps({"user_id": one.user_id, **one.wire(self._content, self._url)})
                for one in some
                if not self._looking.at(one.user_id, one.conversation_id)
            ]
            if not items:
                continue
            if not (await send(lease, hook, Request("notices", items, self._new.position))).taken:
                return
            hook = replace(hook, failing=Failing())  # whoever has taken something begins to fail anew
        batch.done()

    async def _replay(self, lease: Lease, hook: Webhook, replay: Replay, send: Send) -> None:
        """Messages made since a time, conversation by conversation, as whoever is to be told of them is now."""
        if self._again is None:
            async with self._database.snapshot() as connection:
                lows, rest = await replaying.lows(connection, replay, hook.conversation_id)
                at = await snapshots.now(connection)
            again = Noticing(self._database, self._moves, at, subscribed=False)
            again.tell_of(lows)
            self._again = again, rest
        again, rest = self._again
        batch = await again.next()
        if batch is not None:
            await self._tell(lease, hook, batch, send)
            return
        self._again = None
        if not await webhooks.replayed(self._database, self._id, lease.number, rest):
            raise LeaseLost(lease.name)
