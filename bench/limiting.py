"""What limits, metering and the audit cost, and what a flood by one member does to others."""

from __future__ import annotations

import asyncio
import statistics
import time
from dataclasses import replace
from typing import Any
from uuid import uuid4

import orjson

from bench.harness import Bench, Meter, Process, Result, token
from bench.posts import BODY, http_rate, make_conversations, posts_over_sockets, sign_in, summary
from bench.wire import Wire

_ON: dict[str, Any] = {
    "NESTREL_RATE_LIMIT": "1000000",
    "NESTREL_RATE_LIMIT_READS": "1000000",
    "NESTREL_RATE_LIMIT_ADDRESS": "1000000",
    "NESTREL_QUOTA_CONNECTIONS": "200",
}
_OFF: dict[str, Any] = {
    "NESTREL_USAGE_DAYS": "0",
    "NESTREL_QUOTA_CONNECTIONS": "0",
    "NESTREL_QUOTA_CONVERSATIONS": "0",
    "NESTREL_QUOTA_ADDITIONS": "0",
    "NESTREL_QUOTA_MEMBERS": "0",
    "NESTREL_QUOTA_MEMBERSHIPS": "0",
}
_OTHERS = 8
_PAUSE = 0.02
_FLOOD_LIMIT: dict[str, Any] = {"NESTREL_RATE_LIMIT": "600"}


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    """On and off in turn, and the order of the two as well."""
    results = []
    pairs, spent = [], []
    for turn in range(2 * rounds):
        found: dict[bool, float] = {}
        for on in (turn % 2 == 0, turn % 2 == 1):
            with bench.service(**(_ON if on else _OFF)) as service:
                meter = Meter(bench, service)
                found[on] = asyncio.run(posts_over_sockets(service, 200, seconds, meter=meter))
            if on:
                spent.append(meter.spent)
        pairs.append((found[True], found[False]))
    line = summary("posts/s over WebSockets with all limits and metering, against none", pairs, "/s", "≥ 0.95", _least)
    results.append(replace(line, cpu=sorted(spent, key=lambda one: one.ours)[rounds]))
    pairs = []
    for turn in range(2 * rounds):
        found = {}
        for on in (turn % 2 == 0, turn % 2 == 1):
            with bench.service(**(_ON if on else _OFF)) as service:
                found[on] = asyncio.run(_pages(service, seconds))
        pairs.append((found[True], found[False]))
    results.append(summary("pages/s with all limits and metering, against none", pairs, "/s", "≥ 0.95", _least))
    pairs = []
    for _ in range(rounds):
        with bench.service(**_FLOOD_LIMIT) as service:
            quiet = asyncio.run(_latency(service, seconds, flood=False))
            pairs.append((asyncio.run(_latency(service, seconds, flood=True)), quiet))
    results.append(
        summary("p99 of a post by others beside a flood of one member, against without", pairs, " ms", "≤ 1.5",
                lambda ratio: ratio <= 1.5)
    )  # fmt: skip
    return results


def _least(ratio: float) -> bool:
    return ratio >= 0.95


async def _pages(service: Process, seconds: float) -> float:
    [place] = await make_conversations(service, 1, [])
    wire = await sign_in(service, "harbour-office")
    for n in range(50):
        await _post(wire, place, n)
    head = f"GET /v1/conversations/{place}/messages HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer "
    request = f"{head}{token('harbour-office')}\r\n\r\n".encode()
    return await http_rate(service.port, request, seconds, b" 200 ")


async def _post(wire: Wire, place: str, number: int) -> bytes:
    """One post, and its answer."""
    answered = wire.first()
    wire.send(orjson.dumps({"type": "post", "ref": number, "conversation_id": place, "key": uuid4().hex, "body": BODY}))
    return await answered


async def _latency(service: Process, seconds: float, *, flood: bool) -> float:
    """The 99th percentile in ms of posts of some members who post now and then; one beside them does nothing else."""
    users = [f"crew-{uuid4().hex[:8]}" for _ in range(_OTHERS)]
    loud = f"loud-{uuid4().hex[:8]}"
    [place] = await make_conversations(service, 1, [*users, loud])
    wires = [await sign_in(service, user) for user in users]
    stop = time.perf_counter() + seconds
    taken: list[float] = []

    async def now_and_then(wire: Wire) -> None:
        number = 0
        while time.perf_counter() < stop:
            begun = time.perf_counter()
            await _post(wire, place, number)
            taken.append((time.perf_counter() - begun) * 1000)
            number += 1
            await asyncio.sleep(_PAUSE)

    async def without_end() -> None:
        number = 0
        wire = await sign_in(service, loud)
        while time.perf_counter() < stop:
            answer = await _post(wire, place, number)
            number += 1
            if b'"refused"' in answer and number % 90 == 0:  # a socket that is refused too often is ended
                wire = await sign_in(service, loud)

    await asyncio.gather(*(now_and_then(wire) for wire in wires), *([without_end()] if flood else []))
    return statistics.quantiles(taken, n=100)[98]
