"""The checkpoints of a process. Every few seconds one question covers all that is followed here; it also finds a wake-
up that was lost."""

from __future__ import annotations

import asyncio
from collections.abc import Set as AbstractSet
from uuid import UUID

import structlog

from nestrel.core.cursors import AllPosition
from nestrel.live.following import Following
from nestrel.live.hub import Hub
from nestrel.live.moves import Moves
from nestrel.store.events import Moved

log = structlog.get_logger()

_FIRST_SECONDS = 0.5


class Checkpoints:
    """Takes a snapshot every `seconds`, makes sure that the hub has handed on all that moved up to it, and tells
    those who follow all of their conversations. What cannot be handed on holds up only those who follow it."""

    def __init__(self, hub: Hub, moves: Moves, seconds: float) -> None:
        self._hub = hub
        self._moves = moves
        self._seconds = seconds
        self.since: AllPosition | None = None
        """The hub has handed on all up to this, but of what is `held`."""
        self._behind: dict[UUID, int] = {}
        self._looking: dict[UUID, asyncio.Task[None]] = {}

    @property
    def held(self) -> AbstractSet[UUID]:
        """Conversations of which not all has been handed on that moved up to `since`."""
        if self._looking:
            self._looking = {id_: reading for id_, reading in self._looking.items() if not reading.done()}
        return self._behind.keys() | self._looking.keys() if self._looking else self._behind.keys()

    async def run(self) -> None:
        """Until cancelled; a store that is away is asked again at the next turn."""
        while True:
            try:
                self.since = await self.turn(self.since)
                await self._moves.tell_apart()
            except Exception as error:
                log.warning("checkpoint.failed", reason=str(error))
            # Until there is a first one nobody can be told that they are up to date.
            await asyncio.sleep(self._seconds if self.since is not None else min(self._seconds, _FIRST_SECONDS))

    async def turn(self, since: AllPosition | None) -> AllPosition:
        """One question; returns the snapshot from which the next one asks."""
        if since is None or not (self._hub.channels or self._hub.watched):
            now = await self._moves.read_on()
            if since is None:
                self._look_again()
            return now
        # Who comes while this is asked is not spoken for: their conversations may not be among those asked about.
        asking = {one: one.generation for one in self._hub.watchers() if isinstance(one, Following) and one.follows_all}
        now, recent = await self._moves.since(since)
        if recent is None:
            self._look_again()
            return now
        moved = [Moved(id_, rev) for id_, rev in recent.moved.items() if id_ in self._hub.channels]
        moved += [Moved(id_, 0, (user_id,)) for id_, user_id in recent.joined]
        behind = self._hub.unreached(self._behind)
        self._behind = behind | await self._hub.reach(moved)
        held = self.held
        for following, generation in asking.items():
            sent = held.isdisjoint(following.follows)
            if sent and following.generation == generation and following.follows_all:
                following.reached(now)
        return now

    def _look_again(self) -> None:
        """There is no snapshot to ask from, or too much has moved since: whatever was not heard of is looked for."""
        self._behind.clear()
        self._looking = self._hub.look_again()
        for listener in self._hub.watchers():
            if isinstance(listener, Following):
                listener.look_again()
