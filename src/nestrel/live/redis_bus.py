"""The bus on Redis, for many processes on many machines: each hears only of what is followed in it."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import AsyncIterator, Collection, Iterator, Sequence
from typing import Any
from uuid import UUID

import redis.asyncio as redis
import structlog
from redis.asyncio.client import PubSub

from nestrel.live.bus import Form, Subscribed
from nestrel.store import events
from nestrel.store.events import Looking, Moved, Said, Signal

log = structlog.get_logger()

_UNSENT = 10_000
_TOGETHER = 200
_TURN_SECONDS = 1.0
_PING_SECONDS = 5.0
_SILENT_SECONDS = 15.0
"""A line on which not even an answer to a ping comes for so long is broken."""
_CONFIRM_SECONDS = 3.0
_LINGER_SECONDS = 10.0
"""For so long a process hears on of what nobody there follows any more: most of those who leave come back."""


class RedisBus(Subscribed):
    """Publish and subscribe on Redis, one channel for each conversation and for each user who is told what they join.
    What cannot be sent in time is dropped: the bus only wakes, and the checkpoints find what nobody was woken for.
    """

    def __init__(self, client: redis.Redis, node: str, channel: str, words: Form) -> None:
        super().__init__(node, channel, words)
        self._client = client
        self._unsent: deque[tuple[str, str]] = deque(maxlen=_UNSENT)
        self._sending: asyncio.Task[None] | None = None
        self._line: PubSub | None = None
        self._topics: set[str] = set()
        self._left: dict[str, float] = {}
        self._unconfirmed: dict[str, asyncio.Future[None]] = {}
        self._asking = asyncio.Lock()

    # What goes out

    def publish(self, moved: Sequence[Moved]) -> None:
        words = self._words()
        assert words is not None, "whatever moved was written on a connection"
        for event in moved:
            for topic, one in self._addressed(event):
                self._unsent.extend((topic, payload) for payload in events.pack(words, self.node, [one]))
        if self._sending is None or self._sending.done():
            self._sending = asyncio.create_task(self._send())

    def _addressed(self, event: Moved) -> Iterator[tuple[str, Moved]]:
        yield self._of_conversation(event.conversation_id), Moved(event.conversation_id, event.rev)
        for user_id in event.joined:
            yield self._of_user(user_id), Moved(event.conversation_id, 0, (user_id,))

    async def say(self, said: Sequence[Said]) -> None:
        words = self._words()
        if words is None:
            return
        async with self._client.pipeline(transaction=False) as pipeline:
            for one in said:
                if isinstance(one, Signal):
                    for payload in events.pack_said(words, self.node, [one]):
                        pipeline.publish(self._of_conversation(one.conversation_id), payload)
            # Any process may be the one that sends notices.
            for payload in events.pack_said(words, self.node, [one for one in said if isinstance(one, Looking)]):
                pipeline.publish(self.channel, payload)
            await pipeline.execute()

    async def _send(self) -> None:
        while self._unsent:
            some = [self._unsent.popleft() for _ in range(min(len(self._unsent), _TOGETHER))]
            try:
                async with self._client.pipeline(transaction=False) as pipeline:
                    for topic, payload in some:
                        pipeline.publish(topic, payload)
                    await pipeline.execute()
            except (redis.RedisError, OSError) as error:
                log.warning("bus.not_sent", reason=str(error) or type(error).__name__)

    # What is heard

    def _of_conversation(self, conversation_id: UUID) -> str:
        return f"{self.channel}:{conversation_id}"

    def _of_user(self, user_id: str) -> str:
        words = self._words()
        assert words is not None, "whoever follows was let in by the store"
        return f"{self.channel}@{words.topic(user_id)}"  # whose it is, is nobody's business

    def _named(self, conversations: Collection[UUID], users: Collection[str]) -> list[str]:
        return [*map(self._of_conversation, conversations), *map(self._of_user, users)]

    async def attend(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
        named = self._named(conversations, users)
        new = [topic for topic in named if topic not in self._topics]
        self._topics.update(new)
        for topic in named:
            self._left.pop(topic, None)
        if self._line is None:
            return
        if new:
            await self._subscribe(self._line, new)
        waiting = [future for topic in named if (future := self._unconfirmed.get(topic)) is not None]
        if waiting and (await asyncio.wait(waiting, timeout=_CONFIRM_SECONDS))[1]:
            self._cut("a subscription was not confirmed in time")

    def neglect(self, conversations: Collection[UUID] = (), users: Collection[str] = ()) -> None:
        now = asyncio.get_running_loop().time()
        self._left.update((topic, now) for topic in self._named(conversations, users) if topic in self._topics)

    async def _subscribe(self, line: PubSub, topics: Sequence[str]) -> None:
        loop = asyncio.get_running_loop()
        self._unconfirmed.update((topic, loop.create_future()) for topic in topics)
        for n in range(0, len(topics), _TOGETHER):
            some = topics[n : n + _TOGETHER]
            async with self._asking:
                if self._line is not line:
                    return
                try:
                    await line.subscribe(*some)
                except (redis.RedisError, OSError) as error:
                    self._cut(str(error) or type(error).__name__)

    def _cut(self, reason: str) -> None:
        """The line is of no use: whoever waits on it goes on, as all is looked at again when there is another."""
        log.warning("bus.cut", reason=reason)
        self._forget_line()

    def _forget_line(self) -> None:
        self._line = None
        unconfirmed, self._unconfirmed = self._unconfirmed, {}
        for future in unconfirmed.values():
            if not future.done():
                future.set_result(None)

    async def _listen(self) -> AsyncIterator[None]:
        async with self._client.pubsub() as line:
            await line.subscribe(self.channel)  # what everyone hears; and its confirmation says that a line is new
            await self._take(line, first=True)
            self._line = line
            try:
                await self._subscribe(line, list(self._topics))
                while self._unconfirmed:
                    await self._take(line)
                yield
                while True:
                    await self._take(line)
                    await self._let_go(line)
            finally:
                self._forget_line()

    async def _take(self, line: PubSub, *, first: bool = False) -> None:
        """The next message, if one comes soon. Raises `ConnectionError` where the line is or was broken."""
        now = asyncio.get_running_loop().time
        deadline, ping = now() + _SILENT_SECONDS, now() + _PING_SECONDS
        while (message := await line.get_message(timeout=_TURN_SECONDS)) is None:
            if not first and self._line is not line:
                raise ConnectionError("the line was given up")
            if now() > deadline:
                raise ConnectionError("nothing came on the line, not even an answer")
            if now() > ping:
                ping = now() + _PING_SECONDS
                await line.ping()
            await self._let_go(line)
        self._heard_message(message, first=first)
        if not first and self._line is not line:
            raise ConnectionError("the line was given up")

    def _heard_message(self, message: dict[str, Any], *, first: bool) -> None:
        if message["type"] == "message":
            self._receive(message["data"].decode())
        elif message["type"] == "subscribe":
            topic = message["channel"].decode()
            if topic == self.channel and not first:
                # The driver has connected and subscribed anew by itself; what came in between is lost.
                raise ConnectionError("the line broke and came back")
            future = self._unconfirmed.pop(topic, None)
            if future is not None and not future.done():
                future.set_result(None)

    async def _let_go(self, line: PubSub) -> None:
        """Unsubscribe from what nobody has wanted for a while. What is unsubscribed was confirmed before, so that the
        next confirmation for its name is of the next subscription."""
        if not self._left:
            return
        over = asyncio.get_running_loop().time() - _LINGER_SECONDS
        gone = list[str]()
        for topic, since in self._left.items():  # in the order in which they were left
            if since > over or len(gone) == _TOGETHER:
                break
            if topic not in self._unconfirmed:
                gone.append(topic)
        if not gone:
            return
        async with self._asking:  # whoever wants one again meanwhile subscribes behind this
            still = [topic for topic in gone if self._left.pop(topic, None) is not None]
            self._topics.difference_update(still)
            if still:
                await line.unsubscribe(*still)

    async def stop(self) -> None:
        await super().stop()
        if self._sending is not None:
            await asyncio.wait([self._sending], timeout=5)
            self._sending.cancel()
        await self._client.aclose()
