"""An event loop whose time is a number: it jumps to the next timer when nothing is left to run."""

from __future__ import annotations

import asyncio
from typing import Any


class _NoSockets:
    """All that the loop asks of a selector: to wait, which moves the clock."""

    def __init__(self, loop: VirtualLoop) -> None:
        self._loop = loop

    def select(self, timeout: float | None = None) -> list[Any]:
        if timeout is None:
            raise RuntimeError("everything waits, and no timer will wake it")
        self._loop.now += max(0.0, timeout)
        return []


class VirtualLoop(asyncio.BaseEventLoop):
    """Runs the real code of clients and nodes; only its clock and its network are not real."""

    def __init__(self) -> None:
        super().__init__()
        self.now = 0.0
        self._selector = _NoSockets(self)

    def time(self) -> float:
        return self.now

    def _process_events(self, _events: list[Any]) -> None:
        pass

    def _write_to_self(self) -> None:
        pass
