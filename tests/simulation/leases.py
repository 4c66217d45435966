"""Consumers of the journal in many processes that are killed and frozen, on a database that is slow, away, or does as
it is told without saying so. The real `Consumers` runs; the table of leases is a model, on the loop's clock."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from nestrel.core.problems import StoreUnavailable
from nestrel.service.consumers import Consumers, Lease, LeaseLost
from nestrel.store.keep import consumers
from nestrel.store.keep.consumers import TakenLease

NAMES = ("push", "webhook a", "webhook b")
TAKEN_OVER_SECONDS = 10.0


@dataclass
class Row:
    lease: int = 0
    holder: str | None = None
    held_until: float = float("-inf")
    cursor: int = 0


class Table:
    """The leases, with the delays and failures of a way to the database. `at_rest`: nothing fails any more."""

    def __init__(self, dice: random.Random) -> None:
        self.rows = {name: Row() for name in NAMES}
        self.dice = dice
        self.at_rest = False

    def now(self) -> float:
        return asyncio.get_running_loop().time()

    async def way(self) -> None:
        """To the database, or back."""
        if self.at_rest:
            await asyncio.sleep(0.001)
            return
        await asyncio.sleep(self.dice.choice([0.001, 0.01, 0.3, self.dice.random() * 4]))
        if self.dice.random() < 0.1:
            raise StoreUnavailable("away")

    async def take(self, _db: object, node: str, but: Collection[str], most: int, *, search: bool) -> list[TakenLease]:
        await self.way()
        found = list[TakenLease]()
        for name, row in self.rows.items():
            if row.held_until < self.now() and name not in but and len(found) < most:
                row.lease, row.holder, row.held_until = row.lease + 1, node, self.now() + consumers.SECONDS
                found.append(TakenLease(name, row.lease, str(row.cursor)))
        await self.way()
        return found

    async def renew(self, _db: object, node: str, names: Sequence[str]) -> dict[str, int]:
        await self.way()
        still = {name: row.lease for name, row in self.rows.items() if name in names and row.holder == node}
        for name in still:
            self.rows[name].held_until = self.now() + consumers.SECONDS
        await self.way()
        return still

    async def release(self, _db: object, node: str, names: Sequence[str]) -> None:
        await self.way()
        for name in names:
            if self.rows[name].holder == node:
                self.rows[name].held_until, self.rows[name].holder = float("-inf"), None

    async def keep(self, _db: object, name: str, lease: int, cursor: str) -> bool:
        await self.way()
        row = self.rows[name]
        if row.lease != lease:
            return False
        assert int(cursor) >= row.cursor, "a cursor went back"
        row.cursor = int(cursor)
        await self.way()
        return True


class Numbers:
    """A handler that sends one number after the other, and keeps up to where it has."""

    def __init__(self, table: Table, node: str, sent: dict[str, list[int]], most: int) -> None:
        self.table, self.node, self.sent, self.most = table, node, sent, most
        self.at: int | None = None

    async def step(self, lease: Lease) -> float:
        self.at = int(lease.cursor or 0) if self.at is None else self.at
        if self.at == self.most:
            return 1.0
        await self.table.way()  # it is read, and that may take longer than the lease
        lease.check()
        row = self.table.rows[lease.name]
        assert (row.holder, row.lease) == (self.node, lease.number), "two of them send"
        assert row.held_until >= self.table.now(), "one sends whose lease is over"
        self.sent[lease.name].append(self.at + 1)
        if not await self.table.keep(None, lease.name, lease.number, str(self.at + 1)):
            raise LeaseLost(lease.name)
        self.at += 1
        return self.table.dice.random() * 0.5

    async def end(self, lease: Lease) -> None:
        """All that it has sent is kept already."""


async def play(seed: int, most: int = 40) -> None:
    """One schedule. Raises `AssertionError` where a promise is broken."""
    dice = random.Random(seed)
    table, sent = Table(dice), {name: list[int]() for name in NAMES}
    for name in ("take", "renew", "release", "keep"):
        setattr(consumers, name, getattr(table, name))
    live: dict[str, asyncio.Task[None]] = {}
    broken: list[BaseException] = []

    def begin(node: str) -> None:
        def make(_name: str) -> Any:
            return Noted(Numbers(table, node, sent, most), broken)

        holder = Consumers(None, node, make, search=True)  # type: ignore[arg-type]  # the table is asked
        live[node] = asyncio.create_task(holder.run())

    for n in range(3):
        begin(f"process {n}")
    for n in range(3, 12):
        await asyncio.sleep(dice.random() * 12)
        if dice.random() < 0.7:
            live.pop(dice.choice(list(live))).cancel()  # killed: it says nothing to anybody
            begin(f"process {n}")
    table.at_rest = True
    await asyncio.sleep(consumers.SECONDS)  # what was on its way has come
    live.pop(dice.choice(list(live))).cancel()
    await asyncio.sleep(TAKEN_OVER_SECONDS)
    held = [row for row in table.rows.values() if row.holder in live and row.held_until >= table.now()]
    assert len(held) == len(NAMES), "nobody has taken it over"
    await asyncio.sleep(most)
    assert not broken, broken[0]
    for name, numbers in sent.items():
        assert set(numbers) == set(range(1, most + 1)), f"{name}: something was left out"
        assert all(one <= before + 1 for before, one in pairwise(numbers)), "passed over"
    for task in live.values():
        task.cancel()


class Noted:
    """A handler whose broken promises are not taken for faults that pass."""

    def __init__(self, handler: Numbers, broken: list[BaseException]) -> None:
        self._handler, self._broken = handler, broken

    async def step(self, lease: Lease) -> float:
        try:
            return await self._handler.step(lease)
        except AssertionError as error:
            self._broken.append(error)
            raise

    async def end(self, lease: Lease) -> None:
        await self._handler.end(lease)
