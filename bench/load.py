"""Commands over many WebSockets at once, as fast as they are answered."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable

from bench.harness import Meter
from bench.wire import Wire


async def keep_busy(
    wires: list[Wire], window: int, frame: Callable[[Wire, int], bytes], seconds: float, meter: Meter | None = None
) -> float:
    """Commands a second, with `window` of each socket under way."""
    done, refused = 0, list[bytes]()
    numbers = dict.fromkeys(wires, 0)

    def send(wire: Wire) -> None:
        numbers[wire] += 1
        wire.send(frame(wire, numbers[wire]))

    def receiver(wire: Wire) -> Callable[[bytes], None]:
        def receive(payload: bytes) -> None:
            nonlocal done
            if payload.startswith(b'{"type":"done"'):
                done += 1
            else:
                refused.append(payload)
            send(wire)

        return receive

    for wire in wires:
        wire.on_frame = receiver(wire)
        for _ in range(window):
            send(wire)
    await asyncio.sleep(1.0)  # warm
    if meter is not None:
        meter.begin()
    begun, before = time.perf_counter(), done
    await asyncio.sleep(seconds)
    rate = (done - before) / (time.perf_counter() - begun)
    if meter is not None:
        meter.end(done - before)
    for wire in wires:
        wire.close()
    assert not refused, refused[0]
    return rate
