"""The search index is kept to date, as a consumer of the journal; where that does not reach back, a walk finds what
was missed."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from uuid import UUID

from nestrel.core.cursors import AllPosition, CursorSeal
from nestrel.core.problems import StoreUnavailable, Trouble
from nestrel.service import metrics
from nestrel.service.consumers import Lease, LeaseLost
from nestrel.store.database import Database
from nestrel.store.keep import consumers, indexing
from nestrel.store.read import journal

_NAME = "\x1fsearch"
"""Whom its cursors are for; no user is called so."""
_PAUSE_SECONDS = 1.0
_KEEP_SECONDS = 10.0
_AT_ONCE = 100
"""Conversations that one step brings to date."""
_WALK = 500
_WALK_SECONDS = 3_600.0
"""So often all conversations are looked at, whatever the journal said: nobody else notices a word too few."""


class Indexer:
    """Brings to date what has moved behind `since`. More than one may do so at once: each goes past what another is
    at."""

    def __init__(self, database: Database, since: AllPosition | None = None) -> None:
        self._database = database
        self.since = since
        self._walked: float | None = None if since is None else time.monotonic()
        self.left: dict[UUID, None] = {}
        """What is known to have moved and has not been taken in."""

    async def step(self) -> None:
        """Bring to date what has moved since the last step; at first, and from time to time, whatever is behind."""
        async with self._database.read() as connection:
            found = await journal.tail(connection, self.since)
        if self.since is not None and found.whole and found.trimmed < self.since.xmin:
            self.left |= dict.fromkeys(id_ for _, id_, _ in found.moved)
        else:
            self._walked = None
        if self._walked is None or time.monotonic() - self._walked > _WALK_SECONDS:
            self._walked = time.monotonic()
            await self._walk()
        self.since = found.now
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


class Indexing:
    """The consumer `search`: one process indexes, and where it stands is kept."""

    def __init__(self, database: Database, seal: Callable[[], CursorSeal]) -> None:
        self._database = database
        self._seal = seal
        self._indexer: Indexer | None = None
        self._kept = time.monotonic()

    async def step(self, lease: Lease) -> float:
        begun = time.monotonic()
        if self._indexer is None:
            self._indexer = Indexer(self._database, self._stood(lease.cursor))
        try:
            await self._indexer.step()
        except StoreUnavailable as error:
            if error.reason is Trouble.RESTORED:
                self._indexer = Indexer(self._database)  # what is in the index of that database is not known
            raise
        metrics.SEARCH_STEP_SECONDS.observe(time.monotonic() - begun)
        if time.monotonic() - self._kept > _KEEP_SECONDS:
            await self.end(lease)
        return _PAUSE_SECONDS

    def _stood(self, cursor: str | None) -> AllPosition | None:
        if cursor is None:
            return None
        at = self._seal().open_all(_NAME, cursor)
        return at if isinstance(at, AllPosition) else None

    async def end(self, lease: Lease) -> None:
        """Keep where it stands, unless something before that is left."""
        indexer = self._indexer
        if indexer is None or indexer.since is None or indexer.left:
            return
        self._kept = time.monotonic()
        if not await consumers.keep(self._database, lease.name, lease.number, self._seal().all(_NAME, indexer.since)):
            raise LeaseLost(lease.name)
