"""Leases of consumers in a simulation, and that it notices when one is not held to."""

from __future__ import annotations

import asyncio
import time
from typing import Any

import pytest

from nestrel.service import consumers as service
from nestrel.service.consumers import Lease
from nestrel.store.keep import consumers
from tests.simulation import leases
from tests.simulation.clock import VirtualLoop
from tests.simulation.run import stop


@pytest.fixture(autouse=True)
def as_it_was(monkeypatch: pytest.MonkeyPatch) -> None:
    """The functions that a schedule puts in the place of the store's are put back; time is the loop's."""
    for name in ("take", "renew", "release", "keep"):
        monkeypatch.setattr(consumers, name, getattr(consumers, name))
    monkeypatch.setattr(time, "monotonic", lambda: asyncio.get_running_loop().time())


def play(seed: int) -> None:
    loop = VirtualLoop()
    try:
        loop.run_until_complete(leases.play(seed))
    finally:
        loop.run_until_complete(stop())
        loop.close()


@pytest.mark.whole
def test_one_sends_at_a_time_and_another_takes_over_in_ten_seconds() -> None:
    for seed in range(200):
        play(seed)


def _unchecked(monkeypatch: pytest.MonkeyPatch) -> None:
    """Nobody looks whether the lease is over."""
    monkeypatch.setattr(Lease, "check", lambda _self: None)


def _hopeful(monkeypatch: pytest.MonkeyPatch) -> None:
    """The time of a lease is counted from the answer, not from the question."""
    made = Lease.__init__

    def late(self: Lease, name: str, number: int, cursor: str | None, _until: float) -> None:
        made(self, name, number, cursor, time.monotonic() + consumers.SECONDS)

    monkeypatch.setattr(Lease, "__init__", late)


def _slow(monkeypatch: pytest.MonkeyPatch) -> None:
    """Who looks for what nobody holds looks too seldom."""
    monkeypatch.setattr(service, "_LOOK_SECONDS", 9.0)


@pytest.mark.parametrize("broken", [_unchecked, _hopeful, _slow])
def test_the_simulation_notices(monkeypatch: pytest.MonkeyPatch, broken: Any) -> None:
    broken(monkeypatch)
    with pytest.raises(AssertionError):
        for seed in range(200):
            play(seed)
