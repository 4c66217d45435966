"""Signals: what is said to those who follow a conversation now, and kept nowhere. Who is writing, for one.

They go to followers of this process at once, and to those of others over the bus, a few together. What cannot be told
in time is dropped: it would be of no use later.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections import OrderedDict

import structlog

from nestrel.live.bus import Bus
from nestrel.live.hub import Hub
from nestrel.store.events import Signal

log = structlog.get_logger()

_UNSENT = 1_000
_TOGETHER_SECONDS = 0.1
_SEND_SECONDS = 2.0
_EVERY_SECONDS = 1.0
_REMEMBERED = 10_000


class Signals:
    """Tells signals, of each member in each conversation at most one a second."""

    def __init__(self, hub: Hub, bus: Bus) -> None:
        self._hub = hub
        self._bus = bus
        self._unsent: dict[Signal, None] = {}
        self._told: OrderedDict[Signal, float] = OrderedDict()
        self._sending: asyncio.Task[None] | None = None
        bus.on_signals = hub.signalled

    def due(self, signal: Signal) -> bool:
        """Whether it is to be told, and not dropped as too soon; it counts as told then."""
        now = time.monotonic()
        if now - self._told.get(signal, float("-inf")) < _EVERY_SECONDS:
            return False
        self._told[signal] = now
        self._told.move_to_end(signal)
        if len(self._told) > _REMEMBERED:
            self._told.popitem(last=False)
        return True

    def tell(self, signal: Signal) -> None:
        """Tell it to whoever follows, here and elsewhere."""
        self._hub.signalled([signal])
        if len(self._unsent) < _UNSENT:
            self._unsent[signal] = None
        if self._sending is None or self._sending.done():
            self._sending = asyncio.create_task(self._send(), name="signals")

    async def _send(self) -> None:
        while self._unsent:
            some, self._unsent = list(self._unsent), {}
            try:
                async with asyncio.timeout(_SEND_SECONDS):
                    await self._bus.signal(some)
            except Exception as error:
                log.info("signals.not_sent", reason=str(error) or type(error).__name__)
            await asyncio.sleep(_TOGETHER_SECONDS)

    async def stop(self) -> None:
        if self._sending is not None:
            self._sending.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._sending
