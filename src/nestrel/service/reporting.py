"""What a process tells the others of itself every few seconds: what was used through it, and who is connected to it."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from datetime import datetime
from uuid import UUID

import structlog

from nestrel.core.commands import Command, Edit, Post, React, Read
from nestrel.core.problems import StoreUnavailable
from nestrel.core.usage import EDITS, POSTS, REACTIONS, RECEIPTS, REMOVALS, Counted, Follows, Meter, Peaks
from nestrel.live.hub import Hub
from nestrel.service.seats import Seats
from nestrel.store.database import Database
from nestrel.store.write import connections, rates, usage
from nestrel.store.write.answers import Written
from nestrel.store.write.connections import Open

log = structlog.get_logger()

_SECONDS = 2.0
_USAGE_TURNS = 2
_TIDY_TURNS = 30
_FOLLOWS_A_TURN = 5000
_KINDS = {Post: POSTS, Edit: EDITS, React: REACTIONS, Read: RECEIPTS}
ENDED = 4410
"""The close code of a connection that a backend has ended."""


class Reporting:
    """Counts what is used, and lists the connections. `seats` has who is connected here, `hub` what they follow."""

    def __init__(self, database: Database, node: str, seats: Seats, hub: Hub, days: int) -> None:
        self.meter = Meter()
        self._database = database
        self._node = node
        self._seats = seats
        self._hub = hub
        self._days = days
        self._peaks = Peaks()
        self._waiting: list[Counted] = []
        self._peaks_waiting: dict[str, int] = {}
        self._n = 0
        self._told: dict[str, Open] = {}
        self._follows = Follows()
        self._anew = False
        self._server: datetime | None = None
        """Since when the database's server runs, as far as it was heard of."""

    def written(self, unit: Sequence[Command], answers: Sequence[Written]) -> None:
        """Commands of a unit were carried out; a repeat of a post was not."""
        if not self._days:
            return
        now = time.time()
        for command, answer in zip(unit, answers, strict=True):
            if isinstance(command, Post):
                if answer.new:
                    self.meter.command(POSTS, command.conversation_id, command.author_id, now)
            else:
                kind = _KINDS.get(type(command), REMOVALS)
                self.meter.command(kind, command.conversation_id, command.user_id, now)

    def delivered(self, conversation_id: UUID, user_id: str) -> None:
        """A change set was sent to somebody."""
        if self._days:
            self.meter.delivered(conversation_id, user_id, time.time())

    async def run(self) -> None:
        """Tell the store, until cancelled."""
        turn = 0
        while True:
            await asyncio.sleep(_SECONDS)
            turn += 1
            try:
                if self._anew:
                    await self._forget_told()
                await self.tell_connections()
                if self._days and turn % _USAGE_TURNS == 0:
                    await self.tell_usage()
                if turn % _TIDY_TURNS == 0:
                    await connections.tidy(self._database)
                    await usage.forget(self._database, self._days)
                    if self._days:
                        await usage.look(self._database, time.time())
            except StoreUnavailable:
                self._anew = True  # what was counted is kept, and told when it is there again
            except Exception as error:
                self._anew = True
                log.warning("reporting.failed", reason=str(error))

    async def _forget_told(self) -> None:
        """The lists are of passing worth, and a server that fell has lost them: this process tells its part again."""
        await connections.leave(self._database, self._node)
        await usage.leave(self._database, self._node)
        self._told = {}
        self._follows.forget()
        self._anew = False

    async def tell_usage(self) -> None:
        """Add what was counted. What was sent and has no answer is sent again under the same number first."""
        now = time.time()
        if news := self._follows.news(self._hub.connections, _FOLLOWS_A_TURN):
            await usage.follow(self._database, self._node, news, now)
            self._follows.told(news)
        if not self._waiting and not self._peaks_waiting:
            self._waiting = self.meter.take()
            self._peaks_waiting = self._peaks.seen(self._seats.of_each, int(now // 3600))
            self._n += 1
        if self._waiting or self._peaks_waiting:
            await usage.add(self._database, self._node, self._n, self._waiting, self._peaks_waiting, now)
            self._waiting, self._peaks_waiting = [], {}
        await usage.sample(self._database, self._node, self._seats.taken, now)

    async def tell_connections(self) -> None:
        """Bring the list to date, and end those that somebody has ended elsewhere."""
        present = {one.id: one for one in self._seats.listed()}
        changed = [one for id_, one in present.items() if self._told.get(id_) != one]
        gone = self._told.keys() - present.keys()
        ended, server = await connections.tell(self._database, self._node, changed, gone)
        for id_ in ended:
            self.end(id_)
        self._told = present
        if self._server not in (None, server):  # one that is back before anybody misses it has lost the lists as well
            await self._forget_told()
            await rates.beat(self._database, self._node)  # what is listed is of processes that are there
            await connections.tell(self._database, self._node, list(present.values()), ())
            self._told = present
        self._server = server

    def end(self, connection_id: str) -> None:
        """End a connection of this process, if it is one."""
        self._seats.end(connection_id, ENDED, "a backend has ended this connection")

    async def stop(self) -> None:
        """Tell what is left to tell, and leave."""
        try:
            async with asyncio.timeout(_SECONDS):
                for _ in range(2 if self._days else 0):
                    await self.tell_usage()
                await self._forget_told()
        except (TimeoutError, StoreUnavailable) as error:
            log.info("reporting.not_told", reason=str(error))
