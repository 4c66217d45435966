"""How far a follower is behind, and what was read for it in advance."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from itertools import islice
from typing import NamedTuple
from uuid import UUID

from nestrel.core.cursors import ChangePosition
from nestrel.live.channel import Follower
from nestrel.live.source import Gone, Want
from nestrel.store.read.changes import Changes

_TOGETHER = 100
"""Conversations that are read in one question, as far as it all goes into one change set's bytes."""
_LOOKED_AT = 400
_AHEAD_SECONDS = 5.0
"""What was read longer ago is read again: of what has expired since, nobody is told."""


def beyond(at: ChangePosition, other: ChangePosition) -> bool:
    """Whether a position is as far as another one of the same history."""
    return at.epoch == other.epoch and at.rev >= other.rev


def has_all(follower: Follower) -> bool:
    """Whether nothing is to be sent to a follower: it is none any more, or stands where its channel does."""
    at, latest = follower.at, follower.channel.at
    if not (follower.live and follower.started):
        return True
    return at is not None and latest is not None and at.complete and beyond(at, latest)


def read_together(first: Follower, others: Iterable[Follower]) -> dict[Follower, Want]:
    """What to ask the store for one that the ring does not serve, and for others of which the same is so."""
    wanted = {first: _want(first)}
    for other in islice(others, _LOOKED_AT):
        if len(wanted) == _TOGETHER:
            break
        if other is not first and not has_all(other) and (other.at is None or not other.channel.next_entry(other.at)):
            wanted[other] = _want(other)
    return wanted


def _want(follower: Follower) -> Want:
    """Up to where the ring stands, so that the two meet without overlap."""
    at, latest = follower.at, follower.channel.at
    meets = at is not None and latest is not None and (at.epoch != latest.epoch or at.rev <= latest.rev)
    return Want(follower.channel.id, at, latest if meets else None)


class _Read(NamedTuple):
    start: ChangePosition | None
    found: Changes | Gone
    at: float


class Ahead:
    """What was read of others together with the last that was read; no more than goes into one change set."""

    def __init__(self, wanted: Mapping[Follower, Want], found: Mapping[UUID, Changes | Gone]) -> None:
        now = time.monotonic()
        self._of = {
            one: _Read(want.start, found[want.conversation_id], now)
            for one, want in wanted.items()
            if want.conversation_id in found
        }

    def take(self, follower: Follower) -> Changes | Gone | None:
        """What was read for a follower, once, if it still stands where it stood."""
        read = self._of.pop(follower, None)
        if read is None or read.start is not follower.at or time.monotonic() - read.at > _AHEAD_SECONDS:
            return None
        return read.found

    def drop(self, follower: Follower) -> None:
        self._of.pop(follower, None)
