"""The bus tells the other service processes that a conversation moved. It only wakes: what moved is read from the
store, so a lost message costs time and never data."""

from __future__ import annotations

import asyncio
import contextlib
from abc import ABC, abstractmethod
from collections import deque
from collections.abc import AsyncIterator, Callable, Sequence
from typing import Protocol

import asyncpg
import redis.asyncio as redis
import structlog
from sqlalchemy.engine import make_url

from nestrel.live.waiting import happens
from nestrel.store import events
from nestrel.store.events import Moved

log = structlog.get_logger()

_REDIS_SECONDS = 5.0
_UNSENT = 10_000
_TOGETHER = 200
_RETRY_SECONDS = (0.1, 0.5, 1.0, 2.0, 5.0)

Heard = Callable[[Sequence[Moved]], None]


class Bus(Protocol):
    """`start` returns once events are heard. `on_return` is called when the line comes back after a break, in which
    events may have been lost."""

    async def start(self, heard: Heard, on_return: Callable[[], object]) -> None: ...

    def publish(self, moved: Sequence[Moved]) -> None: ...

    async def stop(self) -> None: ...


class _Subscribed(ABC):
    """Keeps one subscription open: connects, listens until it breaks, and connects again with growing pauses."""

    def __init__(self, node: str, channel: str) -> None:
        self.node = node
        self.channel = channel
        self._task: asyncio.Task[None] | None = None
        self._up = asyncio.Event()
        self._heard: Heard = lambda _moved: None

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
                    on_return()
            except Exception as error:  # whatever it is: without the bus nothing is heard until the next checkpoint
                log.warning("bus.away", reason=str(error) or type(error).__name__)
            await asyncio.sleep(_RETRY_SECONDS[min(failures, len(_RETRY_SECONDS) - 1)])
            failures += 1

    @abstractmethod
    def _listen(self) -> AsyncIterator[None]:
        """Subscribe, yield once, and listen until the line breaks."""

    def _receive(self, payload: str) -> None:
        try:
            moved = events.unpack(payload, self.node)
        except ValueError as error:
            log.warning("bus.unreadable", reason=str(error))
            return
        self._heard(moved)


class PostgresBus(_Subscribed):
    """LISTEN on a connection of its own; NOTIFY goes out inside the writing transactions."""

    def __init__(self, url: str, node: str, channel: str) -> None:
        super().__init__(node, channel)
        self._dsn = make_url(url).set(drivername="postgresql").render_as_string(hide_password=False)

    def publish(self, moved: Sequence[Moved]) -> None:
        """Nothing to do: the transaction has told it."""

    async def _listen(self) -> AsyncIterator[None]:
        connection = await asyncpg.connect(self._dsn, timeout=5, server_settings={"application_name": "nestrel bus"})
        broken = asyncio.Event()

        async def terminated(_connection: object) -> None:
            broken.set()

        connection.add_termination_listener(terminated)
        try:
            await connection.add_listener(self.channel, lambda _c, _pid, _channel, payload: self._receive(payload))
            yield
            await broken.wait()
            raise ConnectionError("the database closed the line")
        finally:
            with contextlib.suppress(Exception):
                await connection.close(timeout=1)


class RedisBus(_Subscribed):
    """Publish and subscribe on Redis, for many processes on many machines. What cannot be sent in time is dropped: it
    only wakes, and the checkpoints find what nobody was woken for."""

    def __init__(self, url: str, node: str, channel: str) -> None:
        super().__init__(node, channel)
        self._client = redis.from_url(
            url, socket_connect_timeout=_REDIS_SECONDS, socket_timeout=_REDIS_SECONDS, health_check_interval=5
        )
        self._unsent: deque[str] = deque(maxlen=_UNSENT)
        self._sending: asyncio.Task[None] | None = None

    def publish(self, moved: Sequence[Moved]) -> None:
        self._unsent.extend(events.pack(None, moved))
        if self._sending is None or self._sending.done():
            self._sending = asyncio.create_task(self._send())

    async def _send(self) -> None:
        while self._unsent:
            some = [self._unsent.popleft() for _ in range(min(len(self._unsent), _TOGETHER))]
            try:
                async with self._client.pipeline(transaction=False) as pipeline:
                    for payload in some:
                        pipeline.publish(self.channel, payload)
                    await pipeline.execute()
            except (redis.RedisError, OSError) as error:
                log.warning("bus.not_sent", reason=str(error) or type(error).__name__)

    async def _listen(self) -> AsyncIterator[None]:
        async with self._client.pubsub() as pubsub:
            await pubsub.subscribe(self.channel)
            yield
            while True:
                # A line that nothing comes on is asked whether it is there; one that is silent then is broken.
                message = await pubsub.get_message(ignore_subscribe_messages=True, timeout=_REDIS_SECONDS)
                if message is not None and message["type"] == "message":
                    self._receive(message["data"].decode())
                elif message is None:
                    await pubsub.ping()

    async def stop(self) -> None:
        await super().stop()
        if self._sending is not None:
            await asyncio.wait([self._sending], timeout=5)
            self._sending.cancel()
        await self._client.aclose()


def make_bus(setting: str, database_url: str, node: str, schema: str) -> Bus:
    """The bus that a setting names: `postgres` or a `redis://` address."""
    channel = events.channel(schema)
    if setting == "postgres":
        return PostgresBus(database_url, node, channel)
    return RedisBus(setting, node, channel)
