"""The durable consumers of the journal that this process holds: each has a cursor that is kept, and a lease.

Whoever holds one takes bounded steps from its cursor on, at least once each; a process that dies loses its leases to
others within ten seconds. What a consumer does with what has moved is its handler's business.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Protocol

import structlog

from nestrel.core.problems import StoreUnavailable
from nestrel.live.waiting import happens
from nestrel.service import metrics
from nestrel.store.database import Database
from nestrel.store.keep import consumers

log = structlog.get_logger()

_LOOK_SECONDS = 2.0
_AT_ONCE = 64
"""Consumers that one look takes at most."""
_AWAY_SECONDS = 1.0
_FAULT_SECONDS = 5.0


class LeaseLost(Exception):
    """Somebody else holds the consumer by now, or it is wanted no more; nothing was written."""


@dataclass(slots=True)
class Lease:
    """What a handler may go by: its number, which grows with each holder, and the cursor as it was taken, that is null
    at the very beginning. `until` is on this process's monotonic clock."""

    name: str
    number: int
    cursor: str | None
    until: float

    def check(self) -> None:
        """Raises `LeaseLost` when it may have ended: whoever was stopped for long finds out by itself."""
        if time.monotonic() >= self.until:
            raise LeaseLost(self.name)


class Handler(Protocol):
    async def step(self, lease: Lease) -> float:
        """Do one bounded piece of work from the lease's cursor on, keep where that leads, and say in how many seconds
        there may be more. It asks `lease.check` before whatever others can see. Raises `LeaseLost`,
        `StoreUnavailable`."""

    async def end(self, lease: Lease) -> None:
        """It is to be given up, by a process that stops."""


class Consumers:
    """Takes leases, renews them, and runs a handler for each. `make` gives the handler of a name."""

    def __init__(self, database: Database, node: str, make: Callable[[str], Handler], *, search: bool) -> None:
        self._database = database
        self._node = node
        self._make = make
        self._search = search
        self._held: dict[str, tuple[Lease, Handler, asyncio.Task[None]]] = {}
        self._something = asyncio.Event()

    def look(self) -> None:
        """There may be one more, or one that is free."""
        self._something.set()

    async def run(self) -> None:
        """Hold what nobody else does, until cancelled."""
        try:
            while True:
                try:
                    async with asyncio.timeout(consumers.SECONDS):
                        await self._turn()
                except (StoreUnavailable, TimeoutError) as error:
                    log.info("consumers.not_renewed", reason=str(error) or "the database does not answer")
                except Exception as error:
                    log.error("consumers.failed", exc_info=error)
                self._drop_ended()
                await happens(self._something, _LOOK_SECONDS)
                self._something.clear()
        finally:
            for _, _, task in self._held.values():
                task.cancel()

    async def _turn(self) -> None:
        self._drop_ended()  # what nobody works on is not held on to
        begun = time.monotonic()
        if self._held:
            still = await consumers.renew(self._database, self._node, list(self._held))
            for name, (lease, _, task) in list(self._held.items()):
                if still.get(name) == lease.number:
                    lease.until = begun + consumers.SECONDS
                else:
                    task.cancel()
                    del self._held[name]
        begun = time.monotonic()
        taken = await consumers.take(self._database, self._node, list(self._held), _AT_ONCE, search=self._search)
        for one in taken:
            lease = Lease(one.name, one.lease, one.cursor, begun + consumers.SECONDS)
            handler = self._make(one.name)
            task = asyncio.create_task(self._drive(lease, handler), name=one.name)
            self._held[one.name] = lease, handler, task
            log.info("consumers.taken", name=one.name, lease=one.lease)
        metrics.CONSUMERS.set(len(self._held))

    def _drop_ended(self) -> None:
        """Of those whose lease is over, or whose work has ended with it."""
        for name, (lease, _, task) in list(self._held.items()):
            if task.done() or time.monotonic() >= lease.until:
                task.cancel()
                del self._held[name]

    async def _drive(self, lease: Lease, handler: Handler) -> None:
        while True:
            try:
                lease.check()
                pause = await handler.step(lease)
            except LeaseLost:
                return
            except StoreUnavailable:
                pause = _AWAY_SECONDS
            except Exception as error:
                # Whatever it is, it is nobody's mistake but ours: it is tried again, and nothing is passed over.
                log.error("consumers.step_failed", name=lease.name, exc_info=error)
                pause = _FAULT_SECONDS
            await asyncio.sleep(pause)

    async def stop(self) -> None:
        """Let others have all of them at once."""
        held, self._held = self._held, {}
        for _, _, task in held.values():
            task.cancel()
        if held:
            await asyncio.wait([task for _, _, task in held.values()], timeout=_AWAY_SECONDS)
        with contextlib.suppress(StoreUnavailable, TimeoutError, LeaseLost):
            async with asyncio.timeout(_LOOK_SECONDS):
                for lease, handler, _ in held.values():
                    await handler.end(lease)
                if held:
                    await consumers.release(self._database, self._node, list(held))
