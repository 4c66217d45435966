"""The search index is kept to date: what moved is heard of in the journal, and what was missed is found by a walk."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from uuid import UUID

from structlog import get_logger

from nestrel.core.cursors import AllPosition
from nestrel.core.problems import StoreUnavailable, Trouble
from nestrel.service import metrics
from nestrel.store.database import Database
from nestrel.store.keep import indexing
from nestrel.store.read import journal

log = get_logger()

_PAUSE_SECONDS = 1.0
_AT_ONCE = 100
"""Conversations that one step brings to date."""
_WALK = 500
_WALK_SECONDS = 3_600.0
"""So often all conversations are looked at, whatever the journal said: nobody else notices a word too few."""


class Indexer:
    """Any number of processes do so at once: each hears of everything, and goes past what another is at."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._since: AllPosition | None = None
        self._walked: float | None = None
        self.left: dict[UUID, None] = {}
        """What is known to have moved and has not been taken in."""

    async def run(self) -> None:
        """Index for ever."""
        while True:
            begun = time.monotonic()
            try:
                await self.step()
            except Exception as error:
                if isinstance(error, StoreUnavailable) and error.reason is Trouble.RESTORED:
                    self._since = self._walked = None  # what is in the index of that database is not known
                else:
                    log.warning("index.failed", reason=str(error))
            metrics.SEARCH_STEP_SECONDS.observe(time.monotonic() - begun)
            await asyncio.sleep(_PAUSE_SECONDS)

    async def step(self) -> None:
        """Bring to date what has moved since the last step; at first, and from time to time, whatever is behind."""
        async with self._database.read() as connection:
            found = await journal.tail(connection, self._since)
        if self._since is not None and found.whole and found.trimmed < self._since.xmin:
            self.left |= dict.fromkeys(id_ for _, id_, _ in found.moved)
        else:
            self._walked = None
        if self._walked is None or time.monotonic() - self._walked > _WALK_SECONDS:
            self._walked = time.monotonic()
            await self._walk()
        self._since = found.now
        await self._bring()
        while await indexing.renew(self._database):
            pass
        metrics.SEARCH_BEHIND.set(len(self.left))

    async def _walk(self) -> None:
        after = UUID(int=0)
        while True:
            async with self._database.read() as connection:
                ids = await indexing.behind(connection, after, _WALK)
            if not ids:
                return
            after = ids[-1]
            self.left |= dict.fromkeys(ids)
            await self._bring()

    async def _bring(self) -> None:
        """Take in what is left, each conversation as often as it takes. One at which another process is waits for the
        next step."""
        waiting, self.left = list(self.left), {}
        while waiting:
            some, waiting = waiting[:_AT_ONCE], waiting[_AT_ONCE:]
            try:
                taken, more = await self._take(some)
            except BaseException:
                self.left |= dict.fromkeys([*some, *waiting])
                raise
            metrics.SEARCH_INDEXED.inc(taken)
            if taken:
                waiting += more
            else:
                self.left |= dict.fromkeys(more)

    async def _take(self, ids: Sequence[UUID]) -> tuple[int, list[UUID]]:
        return await indexing.bring(self._database, ids)
