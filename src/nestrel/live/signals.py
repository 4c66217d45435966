"""Signals, such as who is writing: they are sent to those who follow a conversation now, and are never stored.
Followers of this process get them at once, those of other processes over the bus."""

from __future__ import annotations

import time
from collections import OrderedDict

from nestrel.live.hub import Hub
from nestrel.live.saying import Saying
from nestrel.store.events import Signal

_EVERY_SECONDS = 1.0
_REMEMBERED = 10_000


class Signals:
    """Tells signals, of each member in each conversation at most one a second."""

    def __init__(self, hub: Hub, saying: Saying) -> None:
        self._hub = hub
        self._saying = saying
        self._told: OrderedDict[Signal, float] = OrderedDict()

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
        self._saying.tell(signal)
