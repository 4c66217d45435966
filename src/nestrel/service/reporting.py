"""What a process stores about itself every few seconds: what was used through it, and who is connected to it."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import Awaitable, Callable, Iterable, Sequence
from datetime import datetime
from uuid import UUID

import structlog

from nestrel.core.commands import Command, Edit, Post, React, Read
from nestrel.core.problems import StoreUnavailable
from nestrel.core.usage import (
    EDITS,
    POSTS,
    REACTIONS,
    RECEIPTS,
    REMOVALS,
    Counted,
    Follows,
    Highest,
    Lately,
    Meter,
    Peaks,
)
from nestrel.live.hub import Hub
from nestrel.service import metrics
from nestrel.service.seats import Seats
from nestrel.store.database import Database
from nestrel.store.write import connections, rates, usage
from nestrel.store.write.answers import Written
from nestrel.store.write.connections import Open

log = structlog.get_logger()

_CONNECTIONS_SECONDS = 2.0
_USAGE_SECONDS = 4.0
_TIDY_SECONDS = 60.0
_STOP_SECONDS = 2.0
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
        self._lately = Lately()
        self._most = Highest()
        self._waiting: list[Counted] = []
        self._peaks_waiting: dict[str, int] = {}
        self._telling = asyncio.Lock()
        self._n = 0
        self._added = time.monotonic()
        """All that was used before then has been added."""
        self._taken = self._added
        self._told: dict[str, Open] = {}
        self._follows = Follows()
        self._server: datetime | None = None
        """Since when the database's server runs, as far as it was heard of."""
        if days:
            seats.leaving = self._left
            hub.leaving = self._follows.left.note

    def _left(self, user_id: str, of_theirs: int, of_all: int) -> None:
        """A connection is about to end."""
        self._peaks.left.note(user_id, of_theirs)
        self._most.note(None, of_all)

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
        """Tell the store, until cancelled. What is slow of it holds up nothing else."""
        async with asyncio.TaskGroup() as tasks:
            tasks.create_task(self._every(_CONNECTIONS_SECONDS, self.tell_connections), name="telling connections")
            tasks.create_task(self._every(_TIDY_SECONDS, self._tidy), name="tidying lists")
            if self._days:
                tasks.create_task(self._every(_USAGE_SECONDS, self.tell_usage), name="telling usage")

    async def _every(self, seconds: float, act: Callable[[], Awaitable[None]]) -> None:
        """Do something again and again, whatever comes of it: what could not be told is told with the next."""
        while True:
            await asyncio.sleep(seconds)
            if self._days:
                metrics.USAGE_BEHIND.set(time.monotonic() - self._added)
            try:
                await act()
            except StoreUnavailable:
                pass
            except Exception as error:
                log.warning("reporting.failed", of=act.__name__, reason=str(error))

    async def _tidy(self) -> None:
        await connections.tidy(self._database)
        await usage.forget(self._database, self._days)
        if self._days:
            await usage.look(self._database, time.time())

    async def _forget_told(self) -> None:
        """The lists are of passing worth, and a server that fell has lost them: this process tells its part again."""
        await connections.leave(self._database, self._node)
        self._told = {}
        async with self._telling:
            await usage.leave(self._database, self._node)
            self._follows.forget()

    async def tell_usage(self) -> None:
        """Add what was counted, and say what is followed here."""
        async with self._telling:
            await self._tell_usage()

    async def _tell_usage(self) -> None:
        """What was sent and has no answer is sent again under the same number first."""
        now, began = time.time(), time.monotonic()
        if news := self._follows.news(self._hub.connections, _FOLLOWS_A_TURN):
            await usage.follow(self._database, self._node, news, now)
            self._follows.told(news)
        if not self._waiting and not self._peaks_waiting:
            self._taken = began
            self._waiting = self.meter.take()
            self._peaks_waiting = self._peaks.seen(self._seats.of_each, int(now // 3600))
            self._n += 1
        if self._waiting or self._peaks_waiting:
            await usage.add(self._database, self._node, self._n, self._waiting, self._peaks_waiting, now)
            self._waiting, self._peaks_waiting = [], {}
        self._added = self._taken
        most = max(self._seats.taken, self._most.take().get(None, 0))
        await usage.sample(self._database, self._node, most, now)

    async def tell_connections(self) -> None:
        """Bring the list to date, and end those that somebody has ended elsewhere."""
        present = {one.id: one for one in self._seats.listed()}
        changed = [one for id_, one in present.items() if self._told.get(id_) != one]
        gone = self._told.keys() - present.keys()
        moved = {one.user_id for one in changed if one.id not in self._told} | {self._told[id_].user_id for id_ in gone}
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
        if self._days:
            await self._count_together(moved, present.values())

    async def _count_together(self, moved: set[str], listed: Iterable[Open]) -> None:
        """Note how many connections those have at all processes who have come or gone here lately. Of this one those
        count that are listed: with one that has come since, another may have gone elsewhere."""
        asked = self._lately.look(moved)
        if not asked:
            return
        async with self._database.read() as connection:
            elsewhere = await connections.elsewhere_at_once(connection, asked, self._node)
        here = Counter(one.user_id for one in listed)
        for user_id, n in zip(asked, elsewhere, strict=True):
            if n and user_id in here:
                self._peaks.left.note(user_id, here[user_id] + n)

    def end(self, connection_id: str) -> None:
        """End a connection of this process, if it is one."""
        self._seats.end(connection_id, ENDED, "a backend has ended this connection")

    async def stop(self) -> None:
        """Tell what is left to tell, and leave."""
        try:
            async with asyncio.timeout(_STOP_SECONDS):
                for _ in range(2 if self._days else 0):
                    await self.tell_usage()
                await self._forget_told()
        except (TimeoutError, StoreUnavailable) as error:
            log.info("reporting.not_told", reason=str(error))
