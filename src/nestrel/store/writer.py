"""The group commit: commands that wait while a transaction runs go together into the next one."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable, Sequence
from datetime import timedelta
from uuid import UUID

from nestrel.core import limits
from nestrel.core.commands import Command
from nestrel.core.problems import SlowDown, StoreUnavailable
from nestrel.store.batch import Growth, Written, write
from nestrel.store.database import Database

Answered = Callable[["list[Written] | Exception"], None]
"""Gets the answers of a unit once they are durable, or what refused it."""

_Unit = tuple[Sequence[Command], Answered]

_IN_FLIGHT = 2
"""Transactions at one time: one commits while the next one is gathered and planned. A third makes them smaller, and
a sixth of the rate is lost by it."""


class Writer:
    """Takes commands from every door of a process and writes them in as few transactions as there is time for.

    An idle store writes at once, so gathering adds no delay. `on_growth` is called after each commit; `on_batch` hears
    how many commands each transaction took; `followed` says whose rows `on_growth` wants.
    """

    def __init__(
        self,
        database: Database,
        on_growth: Callable[[Sequence[Growth]], None] = lambda _growths: None,
        on_batch: Callable[[int], None] = lambda _commands: None,
        followed: Callable[[UUID], bool] = lambda _conversation_id: True,
        edit_window: timedelta | None = None,
    ) -> None:
        self._database = database
        self._on_growth = on_growth
        self._on_batch = on_batch
        self._followed = followed
        self._edit_window = edit_window
        self._waiting: deque[_Unit] = deque()
        self._commands_waiting = 0
        # The conversations that a transaction is writing to, each with what has come for it meanwhile. They go by the
        # number of their ids here, for which a look-up costs a fifth.
        self._busy: dict[int, list[_Unit]] = {}
        self._running: set[asyncio.Task[None]] = set()

    @property
    def waiting(self) -> int:
        """Commands that no transaction has taken yet."""
        return self._commands_waiting

    def submit(self, unit: Sequence[Command]) -> asyncio.Future[list[Written]]:
        """Queue a unit as `offer` does. The future has its answers, or the `Problem` that refused it."""
        future: asyncio.Future[list[Written]] = asyncio.get_running_loop().create_future()

        def answered(answer: list[Written] | Exception) -> None:
            if future.done():
                return  # its caller has gone
            if isinstance(answer, Exception):
                future.set_exception(answer)
            else:
                future.set_result(answer)

        self.offer(unit, answered)
        return future

    def offer(self, unit: Sequence[Command], answered: Answered) -> None:
        """Queue a unit: one command, or posts of one conversation that are taken whole or not at all. `answered` is
        called when its answers are durable.

        Commands of one caller on one conversation are carried out in the order in which they are offered.
        """
        if self._commands_waiting + len(unit) > limits.WRITES_WAITING:
            answered(SlowDown("the write queue of this process is full", retry_after=1))
            return
        self._waiting.append((unit, answered))
        self._commands_waiting += len(unit)
        if len(self._running) < _IN_FLIGHT:
            # Not taken at once but when the loop has run what is ready: commands that came together go together.
            task = asyncio.ensure_future(self._run())
            self._running.add(task)
            task.add_done_callback(self._running.discard)

    async def _run(self) -> None:
        mine: dict[int, list[_Unit]] = {}
        while batch := self._gather(mine):
            try:
                await self._commit(batch)
            finally:
                for place, meanwhile in mine.items():
                    del self._busy[place]
                    self._waiting.extendleft(reversed(meanwhile))  # they came before what waits
                mine.clear()

    def _gather(self, mine: dict[int, list[_Unit]]) -> list[_Unit]:
        """Take what the next transaction writes: never a conversation that another one is writing to, so that one
        caller's commands keep their order and no transaction waits for the lock of its neighbour. `mine` gets the
        conversations that it writes to."""
        batch: list[_Unit] = []
        size = 0
        while self._waiting and size < limits.GROUP_COMMANDS:
            unit = self._waiting.popleft()
            place = unit[0][0].conversation_id.int
            if place not in mine:
                meanwhile = self._busy.get(place)
                if meanwhile is not None:
                    meanwhile.append(unit)
                    continue
                mine[place] = self._busy[place] = []
            batch.append(unit)
            size += len(unit[0])
        self._commands_waiting -= size
        return batch

    async def _commit(self, batch: list[_Unit]) -> None:
        try:
            async with self._database.write() as connection:
                answers, growths = await write(
                    self._database, connection, [unit for unit, _ in batch], self._followed, self._edit_window
                )
        except asyncio.CancelledError:
            _refuse(batch, StoreUnavailable("the service stopped before this was written", retry_after=1))
            raise
        except StoreUnavailable as problem:
            _refuse(batch, problem)
        except Exception as error:
            if len(batch) == 1:
                _refuse(batch, error)
                return
            for unit in batch:  # whatever the store could not take fails alone
                await self._commit([unit])
        else:
            self._on_batch(sum(len(unit) for unit, _ in batch))
            for (_, answered), answer in zip(batch, answers, strict=True):
                _tell(answered, answer)
            # After the answers: whoever posted knows the number before the change set brings it to everyone.
            if growths:
                self._on_growth(growths)

    async def drain(self) -> None:
        """Wait until everything that was submitted has its answer."""
        while self._running:
            await asyncio.wait(self._running)


def _refuse(batch: Sequence[_Unit], error: Exception) -> None:
    for _, answered in batch:
        _tell(answered, error)


def _tell(answered: Answered, answer: list[Written] | Exception) -> None:
    """One caller's fault is no reason to leave the others of the batch without their answer."""
    try:
        answered(answer)
    except Exception as error:
        context = {"message": "whoever wrote could not take the answer", "exception": error}
        asyncio.get_running_loop().call_exception_handler(context)
