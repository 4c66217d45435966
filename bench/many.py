"""`script/bench many`: as many live followers as are asked for, what each costs at rest, and what to tell them."""

from __future__ import annotations

import asyncio
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import httpx
import orjson
import psutil

from bench.harness import ROOT, Bench, Process, cpu_of, token
from bench.posts import make_conversations

_PLACES = 400
_PEOPLE = 100
_OFFICE = {"Authorization": f"Bearer {token('harbour-office')}"}
_COUNTED = ("deliveries", "reads", "bus_heard", "bus_needed")


class Followers:
    """Some of them, in a process of their own."""

    def __init__(self, service: Process, count: int, prefix: str, places: list[str]) -> None:
        command = [sys.executable, "-m", "bench.followers", str(service.port), str(count), prefix, *places]
        self._process = subprocess.Popen(
            command, cwd=ROOT, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True, bufsize=1
        )

    def ready(self) -> int:
        return int(self._line())

    def _line(self) -> str:
        assert self._process.stdout is not None
        line = self._process.stdout.readline()
        if not line:
            raise RuntimeError("the followers' process has ended")
        return line

    def told(self) -> dict[str, float]:
        assert self._process.stdin is not None
        self._process.stdin.write("\n")
        found: dict[str, float] = orjson.loads(self._line())
        return found

    def stop(self) -> None:
        if self._process.stdin is not None:
            self._process.stdin.close()
        self._process.wait(60)


@dataclass(frozen=True, slots=True)
class Told:
    """What came of some posts: how many, what followers heard, and what each process of the service counted."""

    posts: int
    heard: int
    p50: float
    p99: float
    service: float
    postgres: float
    counted: dict[str, float]


@contextmanager
def following(service: Process, count: int, workers: int, places: list[str]) -> Iterator[list[Followers]]:
    """So many live followers, in as many processes as the service has workers, for the block."""
    parts = [Followers(service, count // workers, "reader", places) for _ in range(workers)]
    try:
        yield parts
    finally:
        for part in parts:
            part.stop()


def counted(service: Process) -> dict[str, float]:
    """What the service's processes count together of what is told."""
    found = dict.fromkeys(_COUNTED, 0.0)
    for line in httpx.get(f"http://127.0.0.1:{service.port}/metrics").text.splitlines():
        name, _, value = line.rpartition(" ")
        for one in _COUNTED:
            if name == f"nestrel_{one}_total":
                found[one] += float(value)
    return found


async def _post(service: Process, places: list[str], rate: float, seconds: float) -> int:
    """Posts at a rate, each with the time at which it is sent."""
    posted, begun = 0, time.perf_counter()
    async with httpx.AsyncClient(base_url=f"http://127.0.0.1:{service.port}/v1", headers=_OFFICE) as http:

        async def one(n: int) -> None:
            answer = await http.post(
                f"/conversations/{places[n * 7 % len(places)]}/messages",
                json={"body": f"{time.time_ns()} " + "x" * 100},
            )
            answer.raise_for_status()

        tasks: set[asyncio.Task[None]] = set()
        while time.perf_counter() - begun < seconds:
            tasks.add(asyncio.create_task(one(posted)))
            posted += 1
            await asyncio.sleep(max(0.0, begun + posted / rate - time.perf_counter()))
        await asyncio.gather(*tasks)
    return posted


def tell(
    bench: Bench, service: Process, parts: list[Followers], places: list[str], rate: float, seconds: float
) -> Told:
    """Post for a while, and say what came of it once everybody has heard it."""
    before, cpu, postgres = counted(service), service.cpu, bench.cpu
    for part in parts:
        part.told()
    posts = asyncio.run(_post(service, places, rate, seconds))
    time.sleep(2)
    told = [part.told() for part in parts]
    now = counted(service)
    heard = int(sum(one["heard"] for one in told))
    return Told(
        posts, heard, max(one["p50"] for one in told), max(one["p99"] for one in told),
        (service.cpu - cpu) / max(heard, 1) * 1e6, (bench.cpu - postgres) / posts * 1e6,
        {name: now[name] - before[name] for name in _COUNTED},
    )  # fmt: skip


def memory_of(service: Process) -> int:
    """Resident bytes of all processes of a service, what they share counted once for each."""
    root = psutil.Process(service._popen.pid)
    return sum(one.memory_info().rss for one in (root, *root.children(recursive=True)))


def measure(bench: Bench, count: int, workers: int = 2, rate: float = 40.0, seconds: float = 20.0) -> Iterator[str]:
    """Rows of a table, and what they mean."""
    settings: dict[str, Any] = {
        "NESTREL_ADDRESS_CONNECTIONS": str(count + 100), "NESTREL_MEMORY": "4096",
        "NESTREL_SIGN_INS": "100000",
    }  # fmt: skip
    with bench.service(workers, **settings) as service:
        people = [f"reader{n}" for n in range(_PEOPLE)]
        places = asyncio.run(make_conversations(service, _PLACES, people))
        rest = memory_of(service)
        begun, cpu = time.perf_counter(), cpu_of(psutil.Process(service._popen.pid))
        with following(service, count, workers, places) as parts:
            live = sum(part.ready() for part in parts)
            took = time.perf_counter() - begun
            spent = (service.cpu - cpu) / live * 1e6
            time.sleep(5)
            held = (memory_of(service) - rest) / live
            cpu = service.cpu
            time.sleep(10)
            idle = (service.cpu - cpu) / 10
            yield f"{live:,} live followers on {workers} processes: {took:.0f} s to come, {spent:,.0f} µs each"
            yield f"memory of each: {held / 1e3:.1f} KB; CPU of all at rest: {idle * 100:.1f} % of a core"
            told = tell(bench, service, parts, places, rate, seconds)
            each = told.heard / told.posts
            yield (
                f"{told.posts} posts to {each:.0f} followers each: {told.heard:,} heard, p50 {told.p50:.0f} ms, p99 "
                f"{told.p99:.0f} ms; CPU {told.service:.0f} µs each, PostgreSQL {told.postgres:.0f} µs a post"
            )
            yield f"counted: {told.counted}"
            broken = sum(part.told()["broken"] for part in parts)
            yield f"lines that broke: {broken:.0f}"
