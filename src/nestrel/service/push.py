"""Web push as a consumer of the journal."""

from __future__ import annotations

import time
from collections.abc import Callable

from nestrel.core.cursors import AllPosition, CursorSeal
from nestrel.live.moves import Moves
from nestrel.service.consumers import Lease, LeaseLost
from nestrel.service.noticing import Noticing
from nestrel.service.pushing import Pushing
from nestrel.store import snapshots
from nestrel.store.database import Database
from nestrel.store.keep import consumers
from nestrel.store.write import subscriptions

NAME = "push"
_OWNER = "\x1fpush"
"""Whom its cursors are for; no user is called so."""
_PAUSE_SECONDS = 0.1
_AGAIN_SECONDS = 1.0
_KEEP_SECONDS = 5.0
_TOLD_SECONDS = 60.0
"""For so long it is not asked again whether there is a device."""
_IDLE_SECONDS = 1.0


class PushHandler:
    """Tells devices of what is new, and once more of what could not be told."""

    def __init__(self, database: Database, moves: Moves, seal: Callable[[], CursorSeal], pushing: Pushing) -> None:
        self._database = database
        self._moves = moves
        self._seal = seal
        self._pushing = pushing
        self._noticing: Noticing | None = None
        self._kept = self._again = self._told = float("-inf")

    async def step(self, lease: Lease) -> float:
        now = time.monotonic()
        noticing = self._noticing or await self._begin(lease)
        if now - self._told > _TOLD_SECONDS and await self._pass_over(lease, noticing):
            return _IDLE_SECONDS
        if now - self._again > _AGAIN_SECONDS:
            lease.check()
            if not await self._pushing.again():
                self._again = now
        batch = await noticing.next()
        if batch is not None:
            lease.check()
            await self._pushing.tell(batch.notices)
            batch.done()
        if now - self._kept > _KEEP_SECONDS:
            await self._keep(lease)
        return _PAUSE_SECONDS if batch is None else 0.0

    async def _pass_over(self, lease: Lease, noticing: Noticing) -> bool:
        """Whether there is no device at all; then nobody is to be told of what came before that was found."""
        async with self._database.read() as connection:
            at = await snapshots.now(connection)
            if await subscriptions.any_there(connection):
                self._told = time.monotonic()
                return False
        noticing.pass_over(at)
        if time.monotonic() - self._kept > _KEEP_SECONDS:
            await self._keep(lease)
        return True

    async def _begin(self, lease: Lease) -> Noticing:
        """From where it was kept; the very first time from now on."""
        at = self._seal().open_all(_OWNER, lease.cursor) if lease.cursor is not None else None
        if not isinstance(at, AllPosition):
            async with self._database.read() as connection:
                at = await snapshots.now(connection)
        self._noticing = Noticing(self._database, self._moves, at, subscribed=True)
        return self._noticing

    async def end(self, lease: Lease) -> None:
        """What has no answer yet is written down, and told again by whoever has it next."""
        await self._pushing.stop()
        await self._keep(lease)

    async def _keep(self, lease: Lease) -> None:
        if self._noticing is None:
            return
        self._kept = time.monotonic()
        cursor = self._seal().all(_OWNER, self._noticing.position)
        if not await consumers.keep(self._database, lease.name, lease.number, cursor):
            raise LeaseLost(lease.name)
