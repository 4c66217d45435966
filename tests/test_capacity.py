"""What docs/capacity.md builds on: the simulation of many nodes shows what one, two and three real processes show."""

from __future__ import annotations

import asyncio
import re
from collections.abc import Callable
from contextlib import AsyncExitStack

import httpx
import pytest

from tests.simulation.nodes import Shown, simulate
from tests.support import Person, Served, Wire, unique

_PLACES = 6
_FOLLOWERS = 90
_POSTS = 90
_NAMES = ("bus_heard", "bus_needed", "reads", "deliveries")


def _counted(served: Served) -> dict[str, float]:
    text = httpx.get(f"{served.url}/metrics").text
    found = {name: re.search(rf"^nestrel_{name}_total ([\d.e+]+)$", text, re.M) for name in _NAMES}
    rings = re.search(r'^nestrel_memory_bytes{of="rings"} ([\d.e+]+)$', text, re.M)
    return {name: float(one[1]) if one else 0.0 for name, one in {**found, "rings": rings}.items()}


async def _hears(wire: Wire, messages: int) -> None:
    await wire.messages(messages)


@pytest.mark.parametrize("workers", [1, 2, 3])
async def test_the_simulation_shows_what_real_processes_show(make_database: Callable[[], str], workers: int) -> None:
    async with AsyncExitStack() as stack:
        served = stack.enter_context(Served(make_database(), workers=workers, NESTREL_QUOTA_CONNECTIONS="0"))
        await asyncio.to_thread(served.wait_ready)
        mara = Person(served.url, unique("mara"))
        places = [(await mara.make())["id"] for _ in range(_PLACES)]
        wires = [await stack.enter_async_context(mara.socket()) for _ in range(_FOLLOWERS)]
        for n, wire in enumerate(wires):
            await wire.command(type="follow", conversation_id=places[n % _PLACES])
        before = await asyncio.to_thread(_counted, served)
        for n in range(_POSTS):  # one at a time, as the simulation has them
            assert (await mara.post(places[n % _PLACES], "x" * 120)).status_code == 201
        await asyncio.gather(*(_hears(wire, _POSTS // _PLACES) for wire in wires))
        # What the processes count they write down for each other; the last of it with the next checkpoint.
        after = await asyncio.to_thread(_counted, served)
        real = {name: (after[name] - before[name]) / _POSTS for name in _NAMES}
    shown = await asyncio.to_thread(simulate, workers, _FOLLOWERS, _PLACES, 20.0, _POSTS / 20.0, topics=False)
    assert shown.behind == 0
    for name, value in _of(shown).items():
        assert value == pytest.approx(real[name], rel=0.3, abs=0.15), (name, real, shown)


def _of(shown: Shown) -> dict[str, float]:
    return {"bus_heard": shown.heard, "reads": shown.reads, "deliveries": shown.deliveries}
