"""Waits for an event or for the end of some work, with a limit in time."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

import structlog

from nestrel.core.problems import Problem

log = structlog.get_logger()

_RETRY_SECONDS = 1.0


async def happens(event: asyncio.Event, seconds: float) -> bool:
    """Wait until an event is set, at most so long; whether it was.

    Not by `asyncio.wait_for`, which before Python 3.12 loses a cancellation that comes just as the event is set: a
    task that is to end then goes on.
    """
    try:
        async with asyncio.timeout(seconds):
            return await event.wait()
    except TimeoutError:
        return False


class Retried:
    """Pieces of work, each tried until it is done; `stirred` is called whenever one is. True while any is under way."""

    def __init__(self, stirred: Callable[[], None]) -> None:
        self._stirred = stirred
        self._tasks: set[asyncio.Task[None]] = set()
        self._over = False

    def __bool__(self) -> bool:
        return bool(self._tasks)

    def start(self, work: Callable[[], Awaitable[None]]) -> None:
        if self._over:
            return
        task = asyncio.create_task(self._until_done(work))
        self._tasks.add(task)
        task.add_done_callback(self._ended)

    def _ended(self, task: asyncio.Task[None]) -> None:
        self._tasks.discard(task)
        self._stirred()

    async def _until_done(self, work: Callable[[], Awaitable[None]]) -> None:
        while True:
            try:
                await work()
            except Problem as problem:
                log.warning("follow.joined_not_read", reason=problem.detail)
                await asyncio.sleep(_RETRY_SECONDS)
            else:
                return

    def end(self) -> None:
        """Do no more of it, and begin none."""
        self._over = True
        for task in self._tasks:
            task.cancel()
