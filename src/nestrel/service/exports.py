"""The exports that run in one process: few, as each holds a database connection. One whose reader does not read is
ended."""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager

from nestrel.core.problems import SlowDown

_UNREAD_SECONDS = 5.0
"""An export that nobody has read from for so long gives its turn to the next one."""
_WAIT_SECONDS = 5.0
_RETRY_SECONDS = 5


class Running:
    """One export. `moved` is called whenever its reader has taken what there was."""

    def __init__(self, connection: object) -> None:
        self.connection = connection
        self._at = time.monotonic()

    def moved(self) -> None:
        self._at = time.monotonic()

    @property
    def unread(self) -> float:
        """Seconds since its reader last took anything."""
        return time.monotonic() - self._at


class Exports:
    """`most` at a time. `abort` cuts the connection of one whose reader has stopped."""

    def __init__(self, most: int, abort: Callable[[object], None]) -> None:
        self._free = asyncio.Semaphore(most)
        self._abort = abort
        self._running: set[Running] = set()

    def check(self) -> None:
        """Raises `SlowDown` if all turns are taken by exports that are being read."""
        if self._free.locked() and not self._idle():
            raise SlowDown("as many exports run as this process allows; try again later", retry_after=_RETRY_SECONDS)

    def _idle(self) -> list[Running]:
        return sorted((one for one in self._running if one.unread > _UNREAD_SECONDS), key=lambda one: -one.unread)

    @asynccontextmanager
    async def turn(self, connection: object) -> AsyncIterator[Running]:
        """A turn for one export, given back however that ends."""
        if self._free.locked():
            for idle in self._idle()[:1]:
                self._abort(idle.connection)
        async with asyncio.timeout(_WAIT_SECONDS):
            await self._free.acquire()
        running = Running(connection)
        self._running.add(running)
        try:
            yield running
        finally:
            self._running.discard(running)
            self._free.release()
