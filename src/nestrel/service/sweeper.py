"""The sweep of one process: every few seconds, paced so that posts keep their latency, and at once when asked."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import Awaitable, Callable

import structlog

from nestrel.core.retention import Then
from nestrel.service import metrics
from nestrel.store import asked
from nestrel.store.database import Database
from nestrel.store.keep import forgetting, journal, retention, sweep
from nestrel.store.keep.sweep import Backlog, Step

log = structlog.get_logger()

_PAUSE = 2.0
"""A paced sweep rests for so many times as long as it worked."""


class Sweeper:
    """Gives out the service's rule, moves floors past what has grown old, and takes away what lies below them; and
    keeps the journal short. Any number of processes do so at once; one that dies loses nothing, as each step is one
    transaction."""

    def __init__(self, database: Database, seconds: float) -> None:
        self._database = database
        self._seconds = seconds

    async def run(self) -> None:
        """Sweep for ever. Floors move in time, however long it takes to take away what is below them."""
        await asyncio.gather(self._every(self._look), self._every(self._sweep))

    async def _every(self, work: Callable[[], Awaitable[None]]) -> None:
        while True:
            try:
                await work()
            except Exception as error:
                log.warning("sweep.failed", reason=str(error))
            await asyncio.sleep(self._seconds)

    async def _look(self) -> None:
        await self._floors()
        await self.backlog()
        while await journal.trim(self._database):
            pass
        async with self._database.read() as connection:
            await asked.forget(connection)
            await forgetting.forget_old(connection)

    async def _sweep(self) -> None:
        while await self._pass(paced=True):
            pass

    async def run_for(self, seconds: float) -> Counter[Then]:
        """Sweep without pauses until nothing is left or the time is over; returns what it took away."""
        taken: Counter[Then] = Counter()
        until = time.monotonic() + seconds
        await self._floors()
        while await self._pass(until=until, taken=taken) and time.monotonic() < until:
            pass
        return taken

    async def backlog(self) -> Backlog:
        """What waits now, for whoever asks and for the metrics."""
        async with self._database.read() as connection:
            found = await sweep.backlog(connection)
        metrics.SWEEP_BACKLOG.set(found.messages)
        metrics.SWEEP_LAG.set(found.seconds)
        return found

    async def _floors(self) -> None:
        while await retention.inherit(self._database):
            pass
        while await retention.age(self._database):
            pass

    async def _pass(
        self, *, paced: bool = False, until: float | None = None, taken: Counter[Then] | None = None
    ) -> bool:
        """One step of each conversation that waits; whether any of them has more."""
        more, after = False, sweep.NOTHING
        while until is None or time.monotonic() < until:
            begun = time.monotonic()
            step = await sweep.step(self._database, after, sweep.SMALL_STEP if paced else sweep.STEP)
            if step is None:
                return more
            took = time.monotonic() - begun
            _count(step, took)
            if taken is not None:
                taken[step.then] += step.messages
            after, more = step.conversation_id, more or step.full
            if paced:
                await asyncio.sleep(took * _PAUSE)
        return more


def _count(step: Step, seconds: float) -> None:
    metrics.EXPIRED.labels(step.then.value).inc(step.messages)
    metrics.SWEEP_STEP_SECONDS.observe(seconds)
