"""What docs/capacity.md builds on: the simulation of many nodes shows what one, two and three real processes show."""

from __future__ import annotations

import asyncio
import json
import re
import subprocess
import sys
from collections.abc import Callable
from contextlib import AsyncExitStack
from typing import Any

import httpx
import psutil
import pytest

from tests.support import PATIENCE, Person, Served, Wire, once, unique

pytestmark = pytest.mark.whole

_PLACES = 6
_FIRST = 60
"""Followers that come before memory is looked at, as in the simulation."""
_FOLLOWERS = 420
_TOGETHER = 30
_POSTS = 90
_SECONDS = 20
_COUNTED = {"heard": "bus_heard_total", "needed": "bus_needed_total", "reads": "reads_total",
            "deliveries": "deliveries_total", "rings": 'memory_bytes{of="rings"}'}  # fmt: skip


def _counted(served: Served) -> dict[str, float]:
    text = httpx.get(f"{served.url}/metrics").text
    found = {what: re.search(rf"^nestrel_{re.escape(name)} ([\d.e+]+)$", text, re.M) for what, name in _COUNTED.items()}
    return {what: float(one[1]) if one else 0.0 for what, one in found.items()}


def _memory(served: Served) -> int:
    root = psutil.Process(served.process.pid)
    return sum(one.memory_info().rss for one in (root, *root.children(recursive=True)))


def _simulated(nodes: int) -> dict[str, Any]:
    """In a process of its own, whose memory is that of the simulation."""
    words = (
        f"--nodes {nodes} --followers {_FOLLOWERS} --places {_PLACES} --rate {_POSTS / _SECONDS} --seconds {_SECONDS}"
        " --bus postgres --whole --json"
    )
    done = subprocess.run(
        [sys.executable, "-m", "tests.simulation.nodes", *words.split()], capture_output=True, timeout=PATIENCE
    )
    assert done.returncode == 0, done.stderr.decode()
    shown: dict[str, Any] = json.loads(done.stdout)
    return shown


async def _follow(stack: AsyncExitStack, who: Person, place: str) -> Wire:
    wire = await stack.enter_async_context(who.socket())
    await wire.command(type="follow", conversation_id=place)
    return wire


@pytest.mark.parametrize("workers", [1, 2, 3])
async def test_the_simulation_shows_what_real_processes_show(make_database: Callable[[], str], workers: int) -> None:
    async with AsyncExitStack() as stack:
        served = stack.enter_context(Served(make_database(), workers=workers, NESTREL_QUOTA_CONNECTIONS="0"))
        await asyncio.to_thread(served.wait_ready)
        mara = Person(served.url, unique("mara"))
        places = [(await mara.make())["id"] for _ in range(_PLACES)]
        wires: list[Wire] = []

        async def come(until: int) -> None:
            while len(wires) < until:
                numbers = range(len(wires), len(wires) + _TOGETHER)
                wires.extend(await asyncio.gather(*(_follow(stack, mara, places[n % _PLACES]) for n in numbers)))

        await come(_FIRST)
        rest = _memory(served)
        await come(_FOLLOWERS)
        follower = (_memory(served) - rest) / (_FOLLOWERS - _FIRST)
        before = await asyncio.to_thread(_counted, served)
        for n in range(_POSTS):  # one at a time, as the simulation has them
            assert (await mara.post(places[n % _PLACES], "x" * 120)).status_code == 201
        await asyncio.gather(*(wire.messages(_POSTS // _PLACES) for wire in wires))
        shown = await asyncio.to_thread(_simulated, workers)
        near = pytest.approx(shown["rings"], rel=0.3)
        # What is held is told every few seconds.
        after = await once(lambda: asyncio.to_thread(_counted, served), lambda now: now["rings"] == near)
        real = {what: (after[what] - before[what]) / _POSTS for what in ("heard", "needed", "reads", "deliveries")}
        for wire in wires:
            wire.raw.transport.abort()  # to say goodbye to so many, one by one, takes longer than all of the above
    assert shown["behind"] == 0
    if workers == 1:  # what a process grows by once weighs too much on the few followers of each of several
        assert shown["follower"] == pytest.approx(follower, rel=0.3)
    for what, value in real.items():
        assert shown[what] == pytest.approx(value, rel=0.3, abs=0.15), (what, real, shown)
    assert real["needed"] <= real["heard"]
