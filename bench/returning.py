"""Everybody comes back at once: with nothing missed, and with three conversations moved for each; what a return costs,
when it is up to date, and what a post takes beside it."""

from __future__ import annotations

import asyncio
import resource
import statistics
import sys
import time
from asyncio.subprocess import PIPE
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import Any

import httpx
import orjson

from bench.harness import ROOT, Bench, Meter, Process, Result, token
from bench.wire import Wire, open_wire

_PLACES, _OF_EACH = 50, 250
"""Conversations of a client, and clients of a conversation."""
_MOVED = 3
_AT_REST = 50
_CONNECTING = 500
"""Connections that are being opened at one time, as a listening socket holds no more."""
_OFFICE = {"Authorization": f"Bearer {token('harbour-office')}"}


@dataclass(slots=True)
class Client:
    user: str
    hello: bytes = b""
    cursor: str = ""
    wire: Wire | None = None
    took: float = 0.0
    changes: int = 0
    shed: int = 0

    async def come(self, port: int, turns: asyncio.Semaphore, begun: float | None = None) -> None:
        """Connect, sign in and follow in one frame, and wait for the checkpoint. Who is shed comes once more."""
        begun = time.perf_counter() if begun is None else begun
        hello = {"type": "sign_in", "token": self.hello.decode(), "follow_all": True}
        if self.cursor:
            hello["cursor"] = self.cursor
        while True:
            async with turns:
                try:
                    wire = await open_wire(port, "/v1/live")
                except ConnectionError as error:
                    if b"503" not in str(error).encode():
                        raise
                    self.shed += 1
                    wire = None
            if wire is not None:
                break
            await asyncio.sleep(1)
        there: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self.changes = 0

        def take(payload: bytes) -> None:
            if payload.startswith(b'{"type":"checkpoint"'):
                self.cursor = orjson.loads(payload)["cursor"]
                if not there.done():
                    self.took = time.perf_counter() - begun
                    there.set_result(None)
            elif payload.startswith(b'{"type":"changes"'):
                self.changes += 1
            elif b'"refused"' in payload[:40]:
                there.set_exception(AssertionError(payload))

        wire.on_frame = take
        wire.send(orjson.dumps(hello))
        await there
        self.wire = wire

    def cut(self) -> None:
        assert self.wire is not None
        assert self.wire.transport is not None
        self.wire.transport.abort()


@dataclass(slots=True)
class Storm:
    """How long the returns took, and posts beside them."""

    returns: list[float]
    posts: list[float]
    changes: int
    peak: int
    shed: int

    def __str__(self) -> str:
        return f"{self.changes:,} change sets; {self.shed:,} shed; {self.peak / 1e6:,.0f} MB at the peak"

    def of(self, percent: int) -> float:
        return statistics.quantiles(self.returns, n=100)[percent - 1] * 1e3


@dataclass(slots=True)
class _Beside:
    """Posts beside something, and the most memory that the service had."""

    took: list[float]
    peak: int


async def _beside(service: Process, place: str, work: Callable[[], Awaitable[object]]) -> _Beside:
    command = [sys.executable, "-m", "bench.beside", str(service.port), place]
    posting = await asyncio.create_subprocess_exec(*command, cwd=ROOT, stdin=PIPE, stdout=PIPE)
    await asyncio.sleep(1)
    peak = 0
    done = asyncio.ensure_future(work())
    while not done.done():
        peak = max(peak, service.memory)
        await asyncio.wait({done}, timeout=0.2)
    told, _ = await posting.communicate(b"")
    await done
    return _Beside(orjson.loads(told), peak)


async def _all_come(service: Process, clients: list[Client], place: str) -> Storm:
    turns, begun = asyncio.Semaphore(_CONNECTING), time.perf_counter()

    async def come() -> None:
        await asyncio.gather(*(one.come(service.port, turns, begun) for one in clients))

    posts = await _beside(service, place, come)
    changes, shed = sum(one.changes for one in clients), sum(one.shed for one in clients)
    return Storm([one.took for one in clients], posts.took, changes, posts.peak, shed)


async def _cut(clients: list[Client]) -> None:
    lost = [one.wire.lost for one in clients if one.wire is not None]
    for one in clients:
        one.cut()
    await asyncio.gather(*lost)
    await asyncio.sleep(2)  # the service has its own part of that to do


async def _made(service: Process, clients: list[Client]) -> tuple[list[str], str]:
    count = len(clients) * _PLACES // _OF_EACH
    async with httpx.AsyncClient(base_url=f"http://127.0.0.1:{service.port}/v1", headers=_OFFICE, timeout=60) as http:
        for one in clients:  # who is seen for the first time is news to everyone they share a conversation with
            (await http.get("/me", headers={"Authorization": f"Bearer {one.hello.decode()}"})).raise_for_status()
        places = []
        for n in range(count):
            first = n * _OF_EACH % len(clients)
            stride = 1 + n * _OF_EACH // len(clients)  # other company in each round
            members = [clients[(first + k * stride) % len(clients)].user for k in range(_OF_EACH)]
            made = await http.post("/conversations", json={"members": list(dict.fromkeys(members))})
            made.raise_for_status()
            places.append(made.json()["id"])
        beside = (await http.post("/conversations", json={"members": []})).json()["id"]
    return places, beside


async def _move(service: Process, places: list[str], clients: int) -> None:
    """A message into so many conversations that each client has about three of them."""
    async with httpx.AsyncClient(base_url=f"http://127.0.0.1:{service.port}/v1", headers=_OFFICE, timeout=60) as http:
        for place in places[: clients * _MOVED // _OF_EACH]:
            (await http.post(f"/conversations/{place}/messages", json={"body": "while away"})).raise_for_status()


async def _measured(bench: Bench, service: Process, count: int) -> list[Result]:
    clients = [Client(f"deck-{n}", token(f"deck-{n}").encode()) for n in range(count)]
    places, beside = await _made(service, clients)
    await asyncio.to_thread(bench.sql, "ANALYZE nestrel.members", "ANALYZE nestrel.conversations")
    quiet = await _beside(service, beside, lambda: asyncio.sleep(10))
    await _all_come(service, clients, beside)
    results = []
    for what, target, moved in (("nothing missed", 600, False), ("3 conversations moved", 1_500, True)):
        await _cut(clients)
        if moved:
            await _move(service, places, count)
        meter = Meter(bench, service)
        storm = await _all_come(service, clients, beside)
        spent = meter.end(count)
        name = f"{count:,} come back at once, {what}"
        results += [
            Result(f"{name}: CPU of each, service and PostgreSQL", spent.ours, None, " µs", f"≤ {target}", spent.ours,
                   spent.ours <= target, spent),
            Result(f"{name}: up to date, p99 (p50 {storm.of(50):,.0f} ms; {storm})", storm.of(99), None, " ms", "—",
                   storm.of(99), True),
            _posts(f"a post beside it, p99, {what}", storm.posts, quiet.took),
        ]  # fmt: skip
    results.append(await _at_rest(service, clients))
    await _cut(clients)
    return results


def _posts(what: str, ours: list[float], floor: list[float]) -> Result:
    a, b = (statistics.quantiles(one, n=100)[98] * 1e3 for one in (ours, floor))
    return Result(what, a, b, " ms", "≤ 3", a / b, a / b <= 3)


async def _at_rest(service: Process, clients: list[Client]) -> Result:
    """One at a time, while nothing else happens."""
    turns = asyncio.Semaphore(1)
    took = []
    for one in clients[:_AT_REST]:
        one.cut()
        await asyncio.sleep(0.05)
        await one.come(service.port, turns)
        took.append(one.took * 1e3)
    median = statistics.median(took)
    return Result(
        "one comes back to an idle service: up to date, p50", median, None, " ms", "≤ 50", median, median <= 50
    )


def measure(bench: Bench, rounds: int, _seconds: int) -> list[Result]:
    count = 5_000 if rounds > 1 else 1_000
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(hard, 16_384), hard))
    settings: dict[str, Any] = {"NESTREL_ADDRESS_CONNECTIONS": str(count + 1_000), "NESTREL_MEMORY": "4096"}
    try:
        with bench.service(**settings) as service:
            return asyncio.run(_measured(bench, service, count))
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
