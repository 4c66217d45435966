"""Sends short-lived words to other processes over the bus, several together. What cannot be sent in time is dropped, as
it would be of no use later."""

from __future__ import annotations

import asyncio
import contextlib

import structlog

from nestrel.live.bus import Bus
from nestrel.store.events import Said

log = structlog.get_logger()

_UNSENT = 1_000
_TOGETHER_SECONDS = 0.1
_SEND_SECONDS = 2.0


class Saying:
    """Sends what is `said`, one of each kind at a time."""

    def __init__(self, bus: Bus) -> None:
        self._bus = bus
        self._unsent: dict[object, Said] = {}
        self._sending: asyncio.Task[None] | None = None

    def tell(self, said: Said, instead_of: object = None) -> None:
        """Tell it to other processes, in the place of what is still unsent of the same."""
        key = said if instead_of is None else instead_of
        if key in self._unsent or len(self._unsent) < _UNSENT:
            self._unsent[key] = said
        if self._sending is None or self._sending.done():
            self._sending = asyncio.create_task(self._send(), name="saying")

    async def _send(self) -> None:
        while self._unsent:
            some, self._unsent = list(self._unsent.values()), {}
            try:
                async with asyncio.timeout(_SEND_SECONDS):
                    await self._bus.say(some)
            except Exception as error:
                log.info("saying.not_sent", reason=str(error) or type(error).__name__)
            await asyncio.sleep(_TOGETHER_SECONDS)

    async def stop(self) -> None:
        if self._sending is not None:
            self._sending.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._sending
