"""Standbys that answer reads: of a conversation, as soon as they hold what the primary has said that it holds.

The primary says who may read what, from which floor on and up to which `rev`; a standby that holds that `rev` of that
conversation, in the same epoch, has everything that was acknowledged of it before the question, removals too. Whatever
is wrong with a standby costs the time until the primary is asked instead.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncGenerator, Awaitable, Callable, Sequence
from contextlib import AsyncExitStack, aclosing
from typing import TypeVar

import asyncpg
import structlog

from nestrel.core.problems import StoreUnavailable
from nestrel.store.access import Access
from nestrel.store.database import Database
from nestrel.store.native import Connection, fetch

log = structlog.get_logger()

Found = TypeVar("Found")
Holds = Callable[[Connection], Awaitable[bool]]
Work = Callable[[Connection, int], AsyncGenerator[tuple[int, Found]]]
"""Reads on from behind a number, and says for each part the number that it ends with."""

_ANSWER_SECONDS = 2.0
"""A standby that has not said by then what it holds is asked nothing for a while."""
_WORK_SECONDS = 10.0
"""The same for what it is asked then."""
_REST_SECONDS = 5.0

# A standby that follows a history that is lost may have the same `rev`, of another change: it has not heard of the
# epoch.
_HOLDS = """
SELECT c.rev >= $2 AND $3 = (SELECT e.id FROM nestrel.epochs e ORDER BY e.n DESC LIMIT 1)
FROM nestrel.conversations c WHERE c.id = $1
"""


class _Standby:
    """One of them. After a failure it rests; then one question is asked of it, and no other until it answers."""

    def __init__(self, database: Database) -> None:
        self.database = database
        self.failing = False
        self.rests_until = 0.0

    def fails(self, now: float) -> None:
        self.failing, self.rests_until = True, now + _REST_SECONDS


class Replicas:
    """The standbys of one process, beside its primary. `count` hears what came of each question: `answered`, `behind`
    or `failed`."""

    def __init__(
        self,
        primary: Database,
        urls: Sequence[str],
        *,
        pool_size: int = 10,
        count: Callable[[str], None] = lambda _what: None,
    ) -> None:
        self._primary = primary
        self._standbys = [
            _Standby(Database(url, pool_size=pool_size, schema=primary.schema, standby=True)) for url in urls
        ]
        self._next = 0
        self._count = count

    def _choose(self) -> _Standby | None:
        """One that does not rest, in turn."""
        now = time.monotonic()
        for _ in self._standbys:
            self._next = (self._next + 1) % len(self._standbys)
            standby = self._standbys[self._next]
            if now >= standby.rests_until:
                if standby.failing:
                    standby.fails(now)  # nobody else tries until this one knows
                return standby
        return None

    def _failed(self, standby: _Standby, error: Exception) -> None:
        if not standby.failing:
            log.warning("replica.failed", error=str(error) or type(error).__name__)
        standby.fails(time.monotonic())
        standby.database.discard_idle()
        self._count("failed")

    def _answered(self, standby: _Standby, *, held: bool) -> None:
        standby.failing, standby.rests_until = False, 0.0
        self._count("answered" if held else "behind")

    async def ask(self, holds: Holds, work: Callable[[Connection], Awaitable[Found]]) -> Found | None:
        """What a standby answers, if there is one that holds what it must; None otherwise."""
        standby = self._choose()
        if standby is None:
            return None
        try:
            async with asyncio.timeout(_ANSWER_SECONDS) as limit, standby.database.read() as connection:
                held = await holds(connection)
                limit.reschedule(asyncio.get_running_loop().time() + _WORK_SECONDS)
                found = await work(connection) if held else None
        except (StoreUnavailable, TimeoutError, asyncpg.PostgresError) as error:
            self._failed(standby, error)
            return None
        self._answered(standby, held=held)
        return found

    async def read(self, access: Access, work: Callable[[Connection], Awaitable[Found]]) -> Found:
        """What a standby, or else the primary, answers about a conversation as it stood when `access` was read.

        Raises:
            StoreUnavailable: the primary is away, too.
        """
        if self._standbys:
            found = await self.ask(lambda connection: holds(connection, access), work)
            if found is not None:
                return found
        async with self._primary.read() as connection:
            return await work(connection)

    async def read_on(self, access: Access, also: Holds, work: Work[Found]) -> AsyncGenerator[Found]:
        """Much of a conversation, part by part, of one moment that is no earlier than that of `access`. Where the
        standby that gives it fails in the middle, the primary goes on behind the last part, as of its own moment.
        `also`: what a standby must hold beside.

        Raises:
            StoreUnavailable: as `read`.
        """
        after = 0
        standby = self._choose()
        if standby is not None:
            try:
                async with AsyncExitStack() as own:
                    async with asyncio.timeout(_ANSWER_SECONDS):
                        connection = await own.enter_async_context(standby.database.snapshot(patient=True))
                        own.push(_cutting(connection))
                        held = await holds(connection, access) and await also(connection)
                    self._answered(standby, held=held)
                    parts = await own.enter_async_context(aclosing(work(connection, after)))
                    while held:
                        async with asyncio.timeout(_WORK_SECONDS):
                            part = await anext(parts, None)
                        if part is None:
                            break
                        after, found = part
                        yield found
                if held:
                    return
            except Exception as error:  # also what a server says that ends: whatever it is, the primary knows better
                self._failed(standby, error)
        async with self._primary.snapshot(patient=True) as connection, aclosing(work(connection, after)) as parts:
            async for _, found in parts:
                yield found

    async def close(self) -> None:
        for standby in self._standbys:
            await standby.database.close()


def _cutting(connection: Connection) -> Callable[[object, object, object], None]:
    """For the end of a block: where it failed, nothing is waited for that the other side might still say."""

    def end(_kind: object, error: object, _traceback: object) -> None:
        if error is not None:
            connection.driver.terminate()

    return end


async def holds(connection: Connection, access: Access) -> bool:
    """Whether this standby has all of a conversation that `access` saw."""
    found = await fetch(connection, _HOLDS, access.id, access.rev, access.epoch)
    return bool(found and found[0][0])
