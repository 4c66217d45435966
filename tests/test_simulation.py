"""The deterministic simulation, and that it notices when a promise is broken."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import pytest

from nestrel.client.replica.store import ReplicaFile
from nestrel.core.epochs import Lineage
from nestrel.core.problems import StoreUnavailable
from nestrel.live.channel import Follower
from nestrel.live.following import Following
from nestrel.live.hub import Hub
from nestrel.live.waiting import Retried
from tests.simulation.model import Truth
from tests.simulation.run import run


@pytest.mark.parametrize("first", range(1, 161, 20))
def test_every_promise_is_kept_whatever_happens(first: int) -> None:
    for seed in range(first, first + 20):
        run(seed)


def _deaf(monkeypatch: pytest.MonkeyPatch) -> None:
    """No lost wake-up is ever found."""

    async def nothing(_self: Hub, _moved: object) -> dict[object, int]:
        return {}

    monkeypatch.setattr(Hub, "reach", nothing)


def _omitting(monkeypatch: pytest.MonkeyPatch) -> None:
    """What one transaction in three moved is not in the journal."""
    journal = Truth.journal

    def some(self: Truth, since: Any) -> Any:
        found = journal(self, since)
        found.moved = [one for one in found.moved if one[0] % 3]
        return found

    monkeypatch.setattr(Truth, "journal", some)


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
        return replace(at, xmin=at.xmax, running=())

    monkeypatch.setattr(Truth, "snapshot", late)


def _timeless(monkeypatch: pytest.MonkeyPatch) -> None:
    """A cursor goes on whatever history it is of."""
    monkeypatch.setattr(Lineage, "goes_on", lambda *_args: True)


def _nostalgic(monkeypatch: pytest.MonkeyPatch) -> None:
    """A device keeps what it took in behind its cursor before the store was set back."""
    monkeypatch.setattr(ReplicaFile, "rewind", lambda _self: [])


def _hasty(monkeypatch: pytest.MonkeyPatch) -> None:
    """What was joined is looked at once, also where that fails, as it often does here."""
    check = Truth.check

    async def failing(self: Truth, *args: Any) -> None:
        if self.trouble and self.dice.random() < 0.5:
            raise StoreUnavailable("it does not answer")
        await check(self, *args)

    async def once(_self: Retried, work: Any) -> None:
        with contextlib.suppress(StoreUnavailable):
            await work()

    monkeypatch.setattr(Truth, "check", failing)
    monkeypatch.setattr(Retried, "_until_done", once)


@pytest.mark.parametrize(
    "fault", [_deaf, _omitting, _unwoken, _forgetful, _careless, _clock, _timeless, _nostalgic, _hasty]
)
def test_it_notices_a_broken_promise_and_names_the_seed(
    monkeypatch: pytest.MonkeyPatch, fault: Callable[[pytest.MonkeyPatch], None]
) -> None:
    fault(monkeypatch)
    first = 100 if fault in (_timeless, _nostalgic) else 1  # it takes a rare turn of events, and most have none
    with pytest.raises(AssertionError, match=r"seed \d+"):
        for seed in range(first, first + 300):
            run(seed)
