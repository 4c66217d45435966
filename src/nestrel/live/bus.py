"""The bus tells the other service processes that a conversation moved. It only wakes: what moved is read from the
store, so a lost message costs time and never data."""

from __future__ import annotations

import asyncio
import contextlib
from abc import ABC, abstractmethod
from collections.abc import AsyncIterator, Callable, Collection, Sequence
from typing import Any, Protocol
from uuid import UUID

import asyncpg
import structlog

from nestrel.live import metrics
from nestrel.live.waiting import happens
from nestrel.store import addresses, events
from nestrel.store.events import Moved, Said
from nestrel.store.tracing import tracing
from nestrel.store.words import Words

log = structlog.get_logger()

_RETRY_SECONDS = (0.1, 0.5, 1.0, 2.0, 5.0)
_LOOK_SECONDS = 10.0
"""So often a line is looked at on which nothing may come for long."""
_ANSWER_SECONDS = 5.0
"""A server that does not answer by then is given up."""
_CLOSE_SECONDS = 1.0

Told = Callable[[Sequence[Said]], None]
Heard = Callable[[Sequence[Moved]], None]
Form = Callable[[], Words | None]
"""Gives the form of words, once the store has said it."""


class Attention(Protocol):
    """What a process says it wants to hear of."""

    async def attend(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
        """Returns once word of these is heard here: that conversations move, that users join one. Where the line is
        down it returns at once, as everything is looked at again when it is back."""

    def neglect(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
        """Nobody here wants to hear of these any more."""


class Everything:
    """`Attention` where every process hears of everything."""

    async def attend(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
        """Nothing to do."""

    def neglect(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
        """Nothing to do."""


class Bus(Attention, Protocol):
    """`start` returns once events are heard. `on_return` is called when the line comes back after a break, in which
    events may have been lost."""

    async def start(self, heard: Heard, on_return: Callable[[], object]) -> None: ...

    def publish(self, moved: Sequence[Moved]) -> None: ...

    on_said: Told

    async def say(self, said: Sequence[Said]) -> None:
        """Tell other processes, now or never."""

    async def stop(self) -> None: ...


class Subscribed(ABC):
    """Keeps one subscription open: connects, listens until it breaks, and connects again with growing pauses."""

    def __init__(self, node: str, channel: str, words: Form) -> None:
        self._words = words
        self.node = node
        self.channel = channel
        self._task: asyncio.Task[None] | None = None
        self._up = asyncio.Event()
        self._heard: Heard = lambda _moved: None
        self.on_said: Told = lambda _said: None

    async def start(self, heard: Heard, on_return: Callable[[], object]) -> None:
        self._heard = heard
        self._task = asyncio.create_task(self._keep(on_return), name="bus")
        # A store that is away at start is no reason not to start: readiness says so until it is back.
        await happens(self._up, 5)

    async def stop(self) -> None:
        if self._task is not None:
            self._task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._task

    async def _keep(self, on_return: Callable[[], object]) -> None:
        failures = 0
        while True:
            try:
                async for _ in self._listen():
                    if failures:
                        log.info("bus.back", failures=failures)
                    failures = 0
                    self._up.set()
                    metrics.BUS_UP.set(1)
                    on_return()
            except Exception as error:  # whatever it is: without the bus nothing is heard until the next checkpoint
                log.warning("bus.away", reason=str(error) or type(error).__name__)
            metrics.BUS_UP.set(0)
            await asyncio.sleep(_RETRY_SECONDS[min(failures, len(_RETRY_SECONDS) - 1)])
            failures += 1

    @abstractmethod
    def _listen(self) -> AsyncIterator[None]:
        """Subscribe, yield once, and listen until the line breaks."""

    def _receive(self, payload: str) -> None:
        words = self._words()
        if words is None:  # the store has not answered yet: whatever moved is read once it does
            return
        try:
            heard = events.unpack(words.open(payload), self.node)
        except ValueError as error:
            metrics.BUS_UNREADABLE.inc()
            log.debug("bus.unreadable", reason=str(error))
            return
        if heard.said:
            self.on_said(heard.said)
        metrics.BUS_HEARD.inc(len(heard.moved))
        if tracing.tracer is not None and heard.trace is not None:
            tracing.heard(heard.trace, ((event.conversation_id, event.rev) for event in heard.moved))
        self._heard(heard.moved)


class PostgresBus(Everything, Subscribed):
    """LISTEN on a connection of its own; NOTIFY goes out inside the writing transactions."""

    def __init__(self, url: str, node: str, channel: str, words: Form) -> None:
        super().__init__(node, channel, words)
        self._connection: asyncpg.Connection[Any] | None = None
        self._asking = asyncio.Lock()
        self._dsn = addresses.driver(url)

    def publish(self, moved: Sequence[Moved]) -> None:
        """Nothing to do: the transaction has told it."""

    async def say(self, said: Sequence[Said]) -> None:
        words = self._words()
        payloads = [] if words is None else list(events.pack_said(words, self.node, said))
        async with self._asking:
            if (line := self._connection) is not None:
                await line.execute("SELECT pg_notify($1, p) FROM unnest($2::text[]) p", self.channel, payloads)

    async def _listen(self) -> AsyncIterator[None]:
        connection = await asyncpg.connect(self._dsn, timeout=5, server_settings={"application_name": "nestrel bus"})
        broken = asyncio.Event()

        async def terminated(_connection: object) -> None:
            broken.set()

        connection.add_termination_listener(terminated)
        try:
            async with asyncio.timeout(_ANSWER_SECONDS):
                await connection.add_listener(self.channel, lambda _c, _pid, _channel, payload: self._receive(payload))
            self._connection = connection
            yield
            while not await happens(broken, _LOOK_SECONDS):
                # A server that is gone without a word, or stands still, is known by its silence alone.
                async with asyncio.timeout(_ANSWER_SECONDS), self._asking:
                    await connection.execute("SELECT 1")
            raise ConnectionError("the database closed the line")
        except TimeoutError:
            raise ConnectionError("the database does not answer on the line") from None
        finally:
            self._connection = None
            with contextlib.suppress(Exception):
                async with asyncio.timeout(_CLOSE_SECONDS):
                    await connection.close()
            connection.terminate()  # nothing, where it was closed in order
