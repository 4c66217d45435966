"""Group commit: commands that wait while a transaction runs go together into the next one."""

from __future__ import annotations

import asyncio
import time
from collections import deque
from collections.abc import Callable, Sequence
from datetime import timedelta
from enum import Enum
from itertools import chain
from typing import TYPE_CHECKING
from uuid import UUID

from nestrel.core import limits
from nestrel.core.commands import Command
from nestrel.core.problems import SlowDown, StoreUnavailable, Trouble
from nestrel.store import constraints, troubles
from nestrel.store.database import Database
from nestrel.store.tracing import tracing
from nestrel.store.troubles import RETRY, WORDS
from nestrel.store.write import at_once
from nestrel.store.write.answers import Answer, Growth, Written
from nestrel.store.write.batch import HELD, Held, Learned, write
from nestrel.store.write.crowds import Answered, Crowds, Unit
from nestrel.store.write.memory import Memory

if TYPE_CHECKING:
    from opentelemetry.trace import SpanContext

_IN_FLIGHT = 2
"""Transactions at one time: one commits while the next one is gathered and planned. A third makes them smaller, and
a sixth of the rate is lost by it."""

_BRIEF_SECONDS = 0.5
"""For so long a conversation that somebody holds is tried again with each batch: another process writes to it, as a
rule, and has done within some milliseconds."""
_PARKED_AT_ONCE = 3
"""Conversations that somebody holds and that are waited for at one time; each wait takes a connection."""
_PARKED_SECONDS = 5.0
"""How long a unit waits for its turn to wait."""


class _Traced:
    """Who is answered, and the span in which they offered their unit."""

    def __init__(self, answered: Answered, span: SpanContext) -> None:
        self._answered = answered
        self.span = span

    def __call__(self, answer: list[Written] | Exception) -> None:
        self._answered(answer)


class _Retry(Enum):
    """Why a batch of which nothing was written is written once more."""

    ANOTHER_HISTORY = "the database has another history than this process knew; now it knows"
    KEY_IS_THERE = "a key that was taken for a new one is there already"

    @classmethod
    def of(cls, error: Exception) -> _Retry | None:
        if isinstance(error, StoreUnavailable):
            return cls.ANOTHER_HISTORY if error.reason is Trouble.RESTORED else None
        return cls.KEY_IS_THERE if troubles.constraint(error) == constraints.KEY else None


class Writer:
    """Takes commands from every door of a process and writes them in as few transactions as there is time for.

    A conversation that somebody holds, another process or a stranger, holds up nobody else's: its units are parked,
    and waited for on their own. An idle store writes at once, so gathering adds no delay. `on_growth` is called after
    each commit; `on_batch` hears how many commands each transaction took; `followed` says whose rows `on_growth`
    wants; `on_written` hears each unit that was carried out, with its answers.
    """

    def __init__(
        self,
        database: Database,
        on_growth: Callable[[Sequence[Growth]], None] = lambda _growths: None,
        on_batch: Callable[[int], None] = lambda _commands: None,
        followed: Callable[[UUID], bool] = lambda _conversation_id: True,
        edit_window: timedelta | None = None,
        on_written: Callable[[Sequence[Command], list[Written]], None] = lambda _unit, _answers: None,
    ) -> None:
        self._database = database
        self._on_growth = on_growth
        self._on_batch = on_batch
        self._followed = followed
        self._edit_window = edit_window
        self._on_written = on_written
        self._memory = Memory()
        self._waiting: deque[Unit] = deque()
        self._commands_waiting = 0
        # The conversations that a transaction is writing to, each with what has come for it meanwhile. They go by the
        # number of their ids here, for which a look-up costs a fifth.
        self._busy: dict[int, list[Unit]] = {}
        self._held_since: dict[int, float] = {}
        self._running: set[asyncio.Task[None]] = set()
        self._parked: set[asyncio.Task[None]] = set()
        self._turns = asyncio.Semaphore(_PARKED_AT_ONCE)
        self._crowds = Crowds(self._queue)

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

        Commands of one caller on one conversation are carried out in the order in which they are offered; receipts in
        a crowd wait a moment for those of others.
        """
        if self._commands_waiting + len(unit) > limits.WRITES_WAITING:
            answered(SlowDown("the write queue of this process is full", retry_after=1))
            return
        self._commands_waiting += len(unit)
        if tracing.tracer is not None and (here := tracing.here()) is not None:
            answered = _Traced(answered, here)
        if not self._crowds.take(unit, answered):
            self._waiting.append((unit, answered))
            self._wake()

    def _queue(self, units: Sequence[Unit]) -> None:
        self._waiting.extend(units)
        self._wake()

    def _wake(self) -> None:
        if self._waiting and len(self._running) < _IN_FLIGHT:
            # Not taken at once but when the loop has run what is ready: commands that came together go together.
            task = asyncio.ensure_future(self._run())
            self._running.add(task)
            task.add_done_callback(self._ran)

    def _ran(self, task: asyncio.Task[None]) -> None:
        self._running.discard(task)
        self._wake()  # what was parked meanwhile may wait again

    async def _run(self) -> None:
        mine: dict[int, list[Unit]] = {}
        while batch := self._gather(mine):
            held: dict[int, list[Unit]] = {}
            try:
                for unit in await self._commit(batch):
                    held.setdefault(unit[0][0].conversation_id.int, []).append(unit)
            finally:
                self._let_go(mine, held)
                mine.clear()

    def _let_go(self, mine: dict[int, list[Unit]], held: dict[int, list[Unit]]) -> None:
        """What has come meanwhile for the conversations of a batch may be written, behind what of the batch was not
        as somebody else holds the conversation."""
        now = time.monotonic()
        for place, meanwhile in mine.items():
            units = held.get(place)
            if units is None:
                self._held_since.pop(place, None)
            else:
                self._commands_waiting += sum(len(unit) for unit, _ in units)
                if now - self._held_since.setdefault(place, now) > _BRIEF_SECONDS:
                    del self._held_since[place]
                    self._park(place, units + meanwhile)
                    continue
                meanwhile = units + meanwhile
            del self._busy[place]
            self._waiting.extendleft(reversed(meanwhile))  # they came before what waits

    def _park(self, place: int, units: list[Unit]) -> None:
        """Wait for a conversation that somebody holds for long. What comes for it meanwhile gathers behind."""
        self._busy[place] = []
        task = asyncio.ensure_future(self._wait_for(place, units))
        self._parked.add(task)
        task.add_done_callback(self._parked.discard)

    async def _wait_for(self, place: int, units: list[Unit]) -> None:
        try:
            async with asyncio.timeout(_PARKED_SECONDS):
                await self._turns.acquire()
        except TimeoutError:
            self._taken(units)
            _refuse(units, StoreUnavailable(WORDS[Trouble.LOCKED], retry_after=RETRY[Trouble.LOCKED],
                                            reason=Trouble.LOCKED))  # fmt: skip
        else:
            try:
                while units:
                    batch = self._first(units)
                    await self._commit(batch, patient=True)
                    units += self._busy[place]
                    self._busy[place] = []
            finally:
                self._turns.release()
        finally:
            self._waiting.extendleft(reversed(self._busy.pop(place)))
            self._wake()

    def _first(self, units: list[Unit]) -> list[Unit]:
        """Take as many units from the front as go into one transaction."""
        size, n = 0, 0
        while n < len(units) and size < limits.GROUP_COMMANDS:
            size += len(units[n][0])
            n += 1
        batch, units[:n] = units[:n], []
        self._taken(batch)
        return batch

    def _taken(self, units: Sequence[Unit]) -> None:
        self._commands_waiting -= sum(len(unit) for unit, _ in units)

    def _gather(self, mine: dict[int, list[Unit]]) -> list[Unit]:
        """Take what the next transaction writes: never a conversation that another one is writing to, so that one
        caller's commands keep their order and no transaction waits for the lock of its neighbour. `mine` gets the
        conversations that it writes to."""
        batch: list[Unit] = []
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

    async def _commit(
        self, batch: list[Unit], *, patient: bool = False, reasons: frozenset[_Retry] = frozenset()
    ) -> list[Unit]:
        """Write a batch and answer it; returns the units that are left, because somebody holds their conversations.
        `patient`: wait for them. It is tried again at once for each reason once."""
        while True:
            try:
                answers, growths, learned = await self._traced(batch, patient, _Retry.KEY_IS_THERE in reasons)
            except asyncio.CancelledError:
                detail = "the service stopped before this was written"
                _refuse(batch, StoreUnavailable(detail, retry_after=1, reason=Trouble.STOPPING))
                raise
            except Exception as error:
                reason = _Retry.of(error)
                if reason is not None and reason not in reasons:
                    reasons |= {reason}
                    if reason is _Retry.KEY_IS_THERE:
                        self._memory.collided()
                elif len(batch) == 1 or isinstance(error, StoreUnavailable):
                    _refuse(batch, error)
                    return []
                else:  # whatever the store could not take fails alone
                    alone = [await self._commit([unit], patient=patient, reasons=reasons) for unit in batch]
                    return list(chain.from_iterable(alone))
            else:
                return self._answer(batch, answers, growths, learned)

    def _answer(
        self, batch: list[Unit], answers: Sequence[Answer | Held], growths: list[Growth], learned: Learned
    ) -> list[Unit]:
        """Tell what was written; returns the units that are left."""
        for place, authors in learned:
            self._memory.keep(place, authors)
        left = [unit for unit, answer in zip(batch, answers, strict=True) if answer is HELD]
        self._on_batch(sum(len(unit) for unit, _ in batch) - sum(len(unit) for unit, _ in left))
        for (commands, answered), answer in zip(batch, answers, strict=True):
            if answer is not HELD:
                _tell(answered, answer)
                if isinstance(answer, list):
                    self._on_written(commands, answer)
        # After the answers: whoever posted knows the number before the change set brings it to everyone.
        if growths:
            self._on_growth(growths)
        return left

    async def _traced(
        self, batch: list[Unit], patient: bool, careful: bool
    ) -> tuple[Sequence[Answer | Held], list[Growth], Learned]:
        units = [unit for unit, _ in batch]
        if tracing.tracer is None:
            return await self._write(units, patient, careful)
        parts = [answered.span for _, answered in batch if isinstance(answered, _Traced)]
        with tracing.batch(sum(map(len, units)), parts):
            written = await self._write(units, patient, careful)
            tracing.moved((growth.conversation_id, growth.rev) for growth in written[1])
            return written

    async def _write(
        self, units: Sequence[Sequence[Command]], patient: bool, careful: bool
    ) -> tuple[Sequence[Answer | Held], list[Growth], Learned]:
        """`careful`: look each key up, for one that was taken for new is there."""
        if not (patient or careful):
            written = await at_once.write(self._database, units, self._followed, self._memory)
            if written is not None:
                return written
        async with self._database.write() as connection:
            return await write(
                self._database, connection, units, self._followed, self._edit_window,
                patient=patient, memory=self._memory, careful=careful,
            )  # fmt: skip

    async def drain(self) -> None:
        """Wait until everything that was submitted has its answer."""
        self._crowds.flush()
        while self._running or self._parked:
            await asyncio.wait(self._running | self._parked)
            self._crowds.flush()


def _refuse(batch: Sequence[Unit], error: Exception) -> None:
    for _, answered in batch:
        _tell(answered, error)


def _tell(answered: Answered, answer: list[Written] | Exception) -> None:
    """One caller's fault is no reason to leave the others of the batch without their answer."""
    try:
        answered(answer)
    except Exception as error:
        context = {"message": "whoever wrote could not take the answer", "exception": error}
        asyncio.get_running_loop().call_exception_handler(context)
