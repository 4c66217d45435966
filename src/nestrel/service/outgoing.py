"""The bytes of frames that all connections of a process hold for slow readers."""

from __future__ import annotations

import asyncio

SMALL = 16 * 1024
"""A frame up to this size goes without asking: so much stands in a socket's own buffers anyway."""


class Outgoing:
    """Bytes of large frames that are being sent, within a bound for the process. One waits until there is room;
    whoever looks after stalled connections makes it, when `short`, by ending those that do not read."""

    def __init__(self, most: int) -> None:
        self.held = 0
        self._most = most
        self._waiting = 0
        self._moved = asyncio.Event()

    @property
    def short(self) -> bool:
        """Whether someone waits for room."""
        return self._waiting > 0

    async def room_for(self, size: int) -> None:
        """Wait until so many bytes more are within the bound; one frame alone always is."""
        while self.held > 0 and self.held + size > self._most:
            self._waiting += 1
            self._moved.clear()
            try:
                await self._moved.wait()
            finally:
                self._waiting -= 1

    def let_go(self, size: int) -> None:
        """So many bytes have gone out, or their connection has ended."""
        self.held -= size
        if self._waiting:
            self._moved.set()
