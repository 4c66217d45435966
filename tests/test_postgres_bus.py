"""The bus over PostgreSQL's own NOTIFY, where the server falls silent without a word."""

from __future__ import annotations

import asyncio
from collections import Counter
from uuid import uuid4

import pytest
from prometheus_client import REGISTRY

from nestrel.live import bus
from nestrel.live.bus import PostgresBus
from nestrel.store.events import Said, Signal
from nestrel.store.words import Words
from tests.support import once, own_cluster
from tests.test_replicas import freezing

WORDS = Words(b"a key of the test's own")


async def test_a_line_that_falls_silent_is_given_up_and_comes_back(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(bus, "_LOOK_SECONDS", 0.05)
    monkeypatch.setattr(bus, "_ANSWER_SECONDS", 1.0)
    word, heard, returns = Signal(uuid4(), "mara", "writing"), list[Said](), Counter[str]()

    async def up() -> float | None:
        return REGISTRY.get_sample_value("nestrel_bus_up")

    async def returned() -> Counter[str]:
        return returns

    async with own_cluster("silent") as postgres:
        url = postgres.url("silent")
        mara, odd = (PostgresBus(url, name, "berths", lambda: WORDS) for name in ("mara", "odd"))
        odd.on_said = heard.extend

        async def said() -> list[Said]:
            await mara.say([word])
            return heard

        try:
            for one in (mara, odd):
                await one.start(lambda _moved: None, lambda one=one: returns.update([one.node]))  # type: ignore[misc]  # mypy takes no defaults of lambdas
            await once(said, bool)
            with freezing(postgres):
                await once(up, lambda is_up: is_up == 0)
                before = returns.copy()
            await once(returned, lambda now: all(now[name] > before[name] for name in ("mara", "odd")))
            heard.clear()
            assert {*await once(said, bool)} == {word}  # said again until it is heard
            assert await up() == 1
        finally:
            await asyncio.gather(mara.stop(), odd.stop())
