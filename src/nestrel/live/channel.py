"""What the hub holds of one followed conversation: its followers, and a ring of its newest change sets."""

from __future__ import annotations

import asyncio
import math
import time
from collections import deque
from dataclasses import dataclass
from typing import Protocol
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import ChangePosition
from nestrel.store.events import Signal


class Listener(Protocol):
    """The side of a connection that the hub calls; each call returns at once."""

    def wake(self, follower: Follower) -> None:
        """There is something to pull for this follower."""

    def end(self, follower: Follower, reason: str) -> None:
        """Membership has ended or the conversation is closed: nothing more comes for this follower."""

    def joined(self, conversation_id: UUID) -> None:
        """The listener's member has joined a conversation; heard only by those who `watch`."""

    def signalled(self, follower: Follower, signal: Signal) -> None:
        """Somebody says something that is kept nowhere."""

    def renewed(self) -> None:
        """The database has another history: what was heard of, memberships too, may be lost."""


@dataclass(slots=True, eq=False)
class Follower:
    """One connection's place in one conversation: `at` is all that has been sent to it, None before the first change
    set, and `cursor` is the same as a token of its member's. It is registered first and `started` when its listener
    has made sure that it may follow; `live` until it is forgotten."""

    channel: Channel
    user_id: str
    listener: Listener
    at: ChangePosition | None = None
    cursor: str | None = None
    started: bool = False
    live: bool = True


@dataclass(frozen=True, slots=True)
class Entry:
    """A change set in the ring: it leads from `start` to `end`, and `tail` is its JSON behind the cursors. `lowest` is
    the first of its messages, None if it has none. `read`: it comes from the store, and not with a commit of this
    process. It is of use `until` a time of the monotonic clock: what was read of a longer absence may expire, of which
    the ring does not hear."""

    start: ChangePosition
    end: ChangePosition
    tail: str
    lowest: int | None
    read: bool
    until: float = math.inf


class Channel:
    """One followed conversation in this process. `at` is the newest position handed on, None until it is known."""

    def __init__(self, conversation_id: UUID) -> None:
        self.id = conversation_id
        self.at: ChangePosition | None = None
        self.ring: deque[Entry] = deque()
        self.ring_bytes = 0
        self.floor = 1
        self.followers: set[Follower] = set()
        self.connections = 0
        """Sockets and streams that follow it; a request that waits is a follower and none of these."""
        self.wanted = 0
        self.reading: asyncio.Task[None] | None = None

    def push(self, entry: Entry, floor: int) -> None:
        """Add to the ring what leads on from it, within its bounds. Whatever holds a message below the floor goes,
        with all before it: nobody gets an expired message that is still on its way."""
        self.at = entry.end
        self.ring.append(entry)
        self.ring_bytes += len(entry.tail)
        drop = 0
        if floor > self.floor:
            self.floor = floor
            expired = [n for n, one in enumerate(self.ring, 1) if one.lowest is not None and one.lowest < floor]
            drop = max(expired, default=0)
        while (
            drop > 0
            or len(self.ring) > limits.RING_SETS
            or (self.ring_bytes > limits.RING_BYTES and len(self.ring) > 1)
        ):
            self.ring_bytes -= len(self.ring.popleft().tail)
            drop -= 1

    def has_room(self, size: int) -> bool:
        """Whether one more of so many bytes is within the bounds."""
        return len(self.ring) < limits.RING_SETS and self.ring_bytes + size <= limits.RING_BYTES

    @property
    def begins(self) -> ChangePosition | None:
        """Where the ring begins, without what is of no use any more."""
        now = time.monotonic()
        while self.ring and self.ring[0].until <= now:
            self.ring_bytes -= len(self.ring.popleft().tail)
        return self.ring[0].start if self.ring else self.at

    def precede(self, entry: Entry) -> None:
        """Add what leads up to the first entry, or where there is none, to where the channel stands."""
        self.ring.appendleft(entry)
        self.ring_bytes += len(entry.tail)

    def empty(self) -> None:
        """Forget the ring; followers that are behind read the store."""
        self.ring.clear()
        self.ring_bytes = 0

    def next_entry(self, at: ChangePosition) -> Entry | None:
        """The ring's entry that continues from a position; None if none begins there: the ring does not reach back
        that far, or the position lies within what one entry brings together."""
        for entry in reversed(self.ring):
            if entry.start == at:
                return entry if entry.until > time.monotonic() else None
            if entry.start.rev < at.rev:
                break
        return None
