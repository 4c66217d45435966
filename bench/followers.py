"""`python -m bench.followers PORT COUNT PREFIX PLACE…`: so many live followers in a process of their own, each of one
of the places. A line on its standard input is answered with one of JSON: what came since the line before."""

from __future__ import annotations

import asyncio
import re
import statistics
import sys
import time

import orjson

from bench.harness import token
from bench.wire import Wire, open_wire

_AT_ONCE = 50
_SAID = re.compile(rb'"body":"(\d+)')


class Heard:
    """What all of them together have heard: how many messages, and how many milliseconds after each was sent."""

    def __init__(self) -> None:
        self.lags: list[float] = []
        self.broken = 0

    def take(self, payload: bytes) -> None:
        now = time.time_ns()
        for sent in _SAID.findall(payload):
            self.lags.append((now - int(sent)) / 1e6)

    def told(self) -> dict[str, float]:
        lags, self.lags = sorted(self.lags), []
        cuts = statistics.quantiles(lags, n=100) if len(lags) > 1 else [0.0] * 99
        return {
            "heard": len(lags), "p50": cuts[49], "p99": cuts[98], "cpu": time.process_time(), "broken": self.broken,
        }  # fmt: skip


async def _follow(port: int, user: str, place: str, heard: Heard, turns: asyncio.Semaphore) -> Wire:
    async with turns:
        wire = await open_wire(port, "/v1/live")
        signed = wire.first()
        wire.send(orjson.dumps({"type": "sign_in", "token": token(user)}))
        assert b'"signed_in"' in await signed
        done = wire.first()
        wire.send(orjson.dumps({"type": "follow", "conversation_id": place, "ref": 1}))
        assert b'"done"' in await done
        wire.on_frame = heard.take

        def lost(_: object) -> None:
            heard.broken += 1

        wire.lost.add_done_callback(lost)
        return wire


async def main(port: int, count: int, prefix: str, places: list[str]) -> None:
    heard, turns = Heard(), asyncio.Semaphore(_AT_ONCE)
    wires = await asyncio.gather(
        *(_follow(port, f"{prefix}{n % 100}", places[n % len(places)], heard, turns) for n in range(count))
    )
    print(len(wires), flush=True)
    while await asyncio.to_thread(sys.stdin.readline):
        print(orjson.dumps(heard.told()).decode(), flush=True)
    for wire in wires:
        wire.close()


if __name__ == "__main__":
    asyncio.run(main(int(sys.argv[1]), int(sys.argv[2]), sys.argv[3], sys.argv[4:]))
