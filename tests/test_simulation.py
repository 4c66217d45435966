"""The deterministic simulation, and that it notices when a promise is broken."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from nestrel.client.replica.store import ReplicaFile
from nestrel.live.hub import Follower, Hub
from nestrel.service.following import Following
from tests.simulation.model import Truth
from tests.simulation.run import run


@pytest.mark.parametrize("first", range(1, 161, 20))
def test_every_promise_is_kept_whatever_happens(first: int) -> None:
    for seed in range(first, first + 20):
        run(seed)


def _deaf(monkeypatch: pytest.MonkeyPatch) -> None:
    """No lost wake-up is ever found."""

    async def nothing(_self: Hub, _moved: object) -> bool:
        return True

    monkeypatch.setattr(Hub, "reach", nothing)


def _unwoken(monkeypatch: pytest.MonkeyPatch) -> None:
    """What came for a follower between its registration and its start is passed over."""

    def add(self: Following, follower: Follower) -> None:
        follower.started = True
        self.follows[follower.channel.id] = follower

    monkeypatch.setattr(Following, "_add", add)


def _forgetful(monkeypatch: pytest.MonkeyPatch) -> None:
    """A device keeps the checkpoint and not what came before it."""
    apply = ReplicaFile.apply
    count = 0

    def sometimes(self: ReplicaFile, changes: Any) -> None:
        nonlocal count
        count += 1
        if count % 5:
            apply(self, changes)

    monkeypatch.setattr(ReplicaFile, "apply", sometimes)


def _careless(monkeypatch: pytest.MonkeyPatch) -> None:
    """Nobody's follow ends."""
    monkeypatch.setattr(Hub, "_end_memberships", lambda *_args, **_options: None)


def _clock(monkeypatch: pytest.MonkeyPatch) -> None:
    """The cursor takes what is still under way as seen."""
    snapshot = Truth.snapshot

    def late(self: Truth) -> Any:
        at = snapshot(self)
        return type(at)(at.system, at.xmax, at.xmax)

    monkeypatch.setattr(Truth, "snapshot", late)


@pytest.mark.parametrize("fault", [_deaf, _unwoken, _forgetful, _careless, _clock])
def test_it_notices_a_broken_promise_and_names_the_seed(
    monkeypatch: pytest.MonkeyPatch, fault: Callable[[pytest.MonkeyPatch], None]
) -> None:
    fault(monkeypatch)
    with pytest.raises(AssertionError, match=r"seed \d+"):
        for seed in range(1, 200):
            run(seed)
