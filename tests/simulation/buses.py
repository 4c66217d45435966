"""The real buses on a clock of their own: behind one stands no Redis, and behind the other no database, but what each
of the two does with a message."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager
from typing import Any

from nestrel.live.bus import Everything, Subscribed
from nestrel.live.redis_bus import RedisBus
from nestrel.store import events
from nestrel.store.events import Moved, Said
from nestrel.store.words import Words

SECONDS = 0.001
"""What a message takes."""
_WORDS = Words(b"a key of the simulation's own")
_CHANNEL = "nestrel"


class Line:
    """The subscriptions of one process, as `redis.asyncio` has them: what comes is in order, and waits to be taken."""

    def __init__(self, exchange: Exchange) -> None:
        self._exchange = exchange
        self._came: asyncio.Queue[dict[str, Any]] = asyncio.Queue()

    async def subscribe(self, *topics: str) -> None:
        for topic in topics:
            self._exchange.lines[topic].add(self)
            self.later({"type": "subscribe", "channel": topic.encode()})

    async def unsubscribe(self, *topics: str) -> None:
        for topic in topics:
            self._exchange.lines[topic].discard(self)

    async def ping(self) -> None:
        self.later({"type": "pong", "data": b""})

    async def get_message(self, timeout: float) -> dict[str, Any] | None:  # noqa: ASYNC109  # as the driver has it
        try:
            return await asyncio.wait_for(self._came.get(), timeout)
        except TimeoutError:
            return None

    def later(self, message: dict[str, Any]) -> None:
        asyncio.get_running_loop().call_later(SECONDS, self._came.put_nowait, message)


class Exchange:
    """What a Redis does with what is published; stands for its client, too."""

    def __init__(self) -> None:
        self.lines: dict[str, set[Line]] = defaultdict(set)

    def publish(self, topic: str, payload: str) -> None:
        for line in self.lines.get(topic, ()):
            line.later({"type": "message", "channel": topic.encode(), "data": payload.encode()})

    async def execute(self) -> None:
        await asyncio.sleep(SECONDS)

    @asynccontextmanager
    async def pipeline(self, *, transaction: bool) -> AsyncIterator[Exchange]:
        assert not transaction
        yield self

    @asynccontextmanager
    async def pubsub(self) -> AsyncIterator[Line]:
        yield Line(self)

    async def aclose(self) -> None:
        pass

    def bus(self, node: str) -> RedisBus:
        return RedisBus(self, node, _CHANNEL, lambda: _WORDS)  # type: ignore[arg-type]  # what it uses of the driver's client


class Notified(Everything, Subscribed):
    """As over LISTEN and NOTIFY: the transaction tells everyone of everything."""

    def __init__(self, everyone: list[Callable[[str], None]], node: str) -> None:
        super().__init__(node, _CHANNEL, lambda: _WORDS)
        self._everyone = everyone

    def publish(self, moved: Sequence[Moved]) -> None:
        for payload in events.pack(_WORDS, self.node, moved):
            for receive in self._everyone:
                asyncio.get_running_loop().call_later(SECONDS, receive, payload)

    async def say(self, said: Sequence[Said]) -> None:
        raise AssertionError("nobody says anything here")

    async def _listen(self) -> AsyncIterator[None]:
        self._everyone.append(self._receive)
        yield
        await asyncio.Event().wait()
