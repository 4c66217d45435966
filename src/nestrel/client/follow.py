"""Follow one conversation over a WebSocket, through any number of broken lines."""

from __future__ import annotations

import asyncio
import random
from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass
from enum import StrEnum
from types import TracebackType
from typing import Any

from websockets.asyncio.client import ClientConnection

from nestrel.client.errors import Unreachable, passes
from nestrel.client.line import address_of, signed_in
from nestrel.client.transport import TokenSource
from nestrel.core.backoff import delays
from nestrel.core.objects import ChangeSet
from nestrel.core.problems import NestrelError, Problem


class FollowState(StrEnum):
    """How a follow stands: `connecting` at first, `live` when everything up to now has been received, `away` while
    the line is broken, `ended` for good."""

    CONNECTING = "connecting"
    LIVE = "live"
    AWAY = "away"
    ENDED = "ended"


@dataclass(frozen=True, slots=True)
class ConnectionState:
    """The state of a follow and, unless it is live, why."""

    state: FollowState
    reason: str = ""


@dataclass(frozen=True, slots=True)
class Unfollowed:
    """Membership ended (`left`, `removed`) or the conversation is `closed`; the last thing that a follow yields."""

    conversation_id: str
    reason: str


Event = ChangeSet | Unfollowed


class Follow:
    """An asynchronous iterator of change sets, and at most one `Unfollowed` at its end.

    `cursor` is the conversation cursor of all that was yielded: kept somewhere, it resumes the follow later. `state`
    says how the line is. Iterating raises `Problem` when the service refuses to let the conversation be followed.
    Leave the loop, or use `async with`, to end it. `on_rewound` is called when the store was restored or failed over,
    so that what was taken in from elsewhere than this follow may be lost.
    """

    def __init__(
        self,
        base_url: str,
        token: TokenSource,
        conversation_id: str,
        cursor: str | None,
        on_rewound: Callable[[], Awaitable[None]] | None = None,
    ) -> None:
        self.conversation_id = conversation_id
        self.cursor = cursor
        self.state = ConnectionState(FollowState.CONNECTING)
        self._address = address_of(base_url)
        self._token = token
        self._on_rewound = on_rewound
        self._events: AsyncIterator[Event] | None = None
        self._socket: ClientConnection | None = None

    async def __aenter__(self) -> Follow:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    def __aiter__(self) -> Follow:
        return self

    async def __anext__(self) -> Event:
        if self._events is None:
            self._events = self._run()
        return await self._events.__anext__()

    async def close(self) -> None:
        """End the follow and its connection."""
        self.state = ConnectionState(FollowState.ENDED, "closed by the caller")
        if self._socket is not None:
            await self._socket.close()

    async def _run(self) -> AsyncIterator[Event]:
        pauses = delays(random.random)
        while self.state.state is not FollowState.ENDED:
            try:
                async for event in self._connection():
                    if self.state.state is FollowState.LIVE:
                        pauses = delays(random.random)
                    yield event
                    if isinstance(event, Unfollowed):
                        self.state = ConnectionState(FollowState.ENDED, event.reason)
                        return
            except (Unreachable, Problem) as error:
                if not passes(error):
                    self.state = ConnectionState(FollowState.ENDED, str(error))
                    raise
                if self.state.state is FollowState.ENDED:
                    return
                self.state = ConnectionState(FollowState.AWAY, str(error))
                await asyncio.sleep(next(pauses))
            except NestrelError as error:
                self.state = ConnectionState(FollowState.ENDED, str(error))
                raise

    async def _connection(self) -> AsyncIterator[Event]:
        """One connection, from signing in to its end, which is always an error."""
        try:
            async with signed_in(self._address, self._token, self._opened) as line:
                cursor = {"cursor": self.cursor} if self.cursor else {}
                done = await line.command({"type": "follow", "conversation_id": self.conversation_id, **cursor})
                self.cursor = done["cursor"]
                if done["rewound"] and self._on_rewound is not None:
                    await self._on_rewound()
                self.state = ConnectionState(FollowState.LIVE)
                while True:
                    frame = await line.receive()
                    if frame["type"] == "rewound" and self._on_rewound is not None:
                        await self._on_rewound()
                    event = self._read(frame)
                    if event is not None:
                        yield event
        finally:
            self._socket = None

    def _opened(self, socket: ClientConnection) -> None:
        self._socket = socket

    def _read(self, frame: dict[str, Any]) -> Event | None:
        if frame["type"] == "changes":
            changes = ChangeSet.model_validate(frame)
            self.cursor = changes.cursor
            return changes
        if frame["type"] == "unfollowed":
            return Unfollowed(frame["conversation_id"], frame["reason"])
        return None
