"""Follow one conversation over a WebSocket, through any number of broken lines."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Awaitable, Callable
from contextlib import suppress
from dataclasses import dataclass
from enum import StrEnum
from types import TracebackType

from websockets.asyncio.client import ClientConnection

from nestrel.client.errors import passes
from nestrel.client.line import Frame, Socket, address_of, sign_in
from nestrel.client.transport import TokenSource
from nestrel.core.backoff import delays, pause_after
from nestrel.core.objects import ChangeSet
from nestrel.core.problems import NestrelError, Problem, Unreachable


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
    `close`, or `async with`, ends it; one that nobody holds any more is cut. `on_rewound` is
    called when the store was restored or failed over, so that what was taken in from elsewhere than this follow may be
    lost.
    """

    _ends = True
    """Whether the end of a membership is that of the follow."""

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
        self._pauses = delays(random.random)
        self._turn = asyncio.Lock()
        self._stepping: asyncio.Task[object] | None = None
        self._closing = asyncio.Event()
        self._socket: ClientConnection | None = None
        self._line: Socket | None = None
        self._loop: asyncio.AbstractEventLoop | None = None

    async def __aenter__(self) -> Follow:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    def __aiter__(self) -> Follow:
        return self

    async def __anext__(self) -> Event:
        async with self._turn:
            self._stepping = asyncio.current_task()
            while self.state.state is not FollowState.ENDED:
                try:
                    event = await self._next(self._line or await self._connect())
                except NestrelError as error:
                    await self._away(error)
                    continue
                if event is None:
                    continue
                self._pauses = delays(random.random)
                if isinstance(event, Unfollowed) and self._ends:
                    self.state = ConnectionState(FollowState.ENDED, event.reason)
                    await self._leave()
                return event
        raise StopAsyncIteration

    async def looking(self, conversation_id: str | None) -> None:
        """Say what the member has on the screen, None for nothing: nobody notifies them of that. It counts for 60 s and
        ends with the connection; while there is none it is not said, and a notice comes."""
        await self._say({"type": "looking", "conversation_id": conversation_id})

    async def writing(self, conversation_id: str) -> None:
        """Tell those who follow a conversation that the member is writing there; at most one a second is told."""
        await self._say({"type": "signal", "conversation_id": conversation_id, "name": "writing"})

    async def _say(self, frame: Frame) -> None:
        if self._line is not None:
            with suppress(Unreachable):  # whoever waits for the next event hears of it
                await self._line.send(frame)

    async def close(self) -> None:
        """End the follow and its connection, from whichever task; who waits for the next event hears that it ended."""
        self.state = ConnectionState(FollowState.ENDED, "closed by the caller")
        self._closing.set()
        if self._socket is not None:
            await self._socket.close()  # what waits on it ends with it
        if self._turn.locked() and self._stepping is asyncio.current_task():
            return  # from `on_rewound`, within a step, which ends with the line
        async with self._turn:
            await self._leave()

    def __del__(self) -> None:
        # Left without `close`, as by a loop that was broken off: the service need not send to nobody.
        line: Socket | None = getattr(self, "_line", None)
        if line is not None and self._loop is not None and not self._loop.is_closed():
            self._loop.call_soon_threadsafe(line.abort)

    async def _connect(self) -> Socket:
        """Sign in and follow, from the cursor on."""
        self._loop = asyncio.get_running_loop()
        line = await self._signed_in()
        try:
            done = await self._begin(line)
            if done["rewound"] and self._on_rewound is not None:
                await self._on_rewound()
        except BaseException:
            await line.close()
            raise
        self.cursor = done["cursor"]
        if not self._closing.is_set():
            self.state = ConnectionState(FollowState.LIVE)
        self._line = line
        return line

    async def _signed_in(self) -> Socket:
        return await sign_in(self._address, self._token, self._opened)

    async def _begin(self, line: Socket) -> Frame:
        return await line.command({"type": "follow", "conversation_id": self.conversation_id, **self._from()})

    def _from(self) -> Frame:
        return {"cursor": self.cursor} if self.cursor else {}

    async def _next(self, line: Socket) -> Event | None:
        """What the next frame says; None for one that is not for the caller. Whoever stops waiting for it can ask
        again."""
        frame = await line.receive()
        if frame["type"] == "rewound" and self._on_rewound is not None:
            try:
                await self._on_rewound()
            except BaseException:
                await self._leave()  # the cursor is the one of before: the next connection says it again
                raise
        return self._read(frame)

    async def _away(self, error: NestrelError) -> None:
        """A line broke, or there was none: wait a while. Raises what is not to be tried again."""
        await self._leave()
        if self._closing.is_set():
            return
        if not isinstance(error, (Unreachable, Problem)) or not passes(error):
            self.state = ConnectionState(FollowState.ENDED, str(error))
            raise error
        self.state = ConnectionState(FollowState.AWAY, str(error))
        with suppress(TimeoutError):
            pause = pause_after(error, next(self._pauses), random.random)
            await asyncio.wait_for(self._closing.wait(), pause)

    async def _leave(self) -> None:
        line, self._line, self._socket = self._line, None, None
        if line is not None:
            await line.close()

    def _opened(self, socket: ClientConnection) -> None:
        if self._closing.is_set():
            raise Unreachable("closed by the caller while it connected")
        self._socket = socket

    def _read_of_many(self, frame: Frame) -> Event | None:
        """What a frame says that is of many conversations: where to go on a checkpoint says, and no change set."""
        if frame["type"] == "checkpoint":
            self.cursor = frame["cursor"]
            return None
        if frame["type"] == "changes":
            return ChangeSet.model_validate(frame)
        return Follow._read(self, frame)  # not its own `_read`, which is this

    def _read(self, frame: Frame) -> Event | None:
        if frame["type"] == "changes":
            changes = ChangeSet.model_validate(frame)
            self.cursor = changes.cursor
            return changes
        if frame["type"] == "unfollowed":
            return Unfollowed(frame["conversation_id"], frame["reason"])
        return None


class FollowEverything(Follow):
    """The same of every conversation of the store, or of every one of a kind, for a trusted backend: those that are
    made later, too. An `Unfollowed` tells of one that was closed. `cursor` is that of the last checkpoint, and of use
    to such a line alone."""

    _ends = False

    def __init__(
        self,
        base_url: str,
        token: TokenSource,
        kind: str | None,
        cursor: str | None,
        on_rewound: Callable[[], Awaitable[None]] | None = None,
    ) -> None:
        super().__init__(base_url, token, "", cursor, on_rewound)
        self._kind = kind

    async def _begin(self, line: Socket) -> Frame:
        kind = {"kind": self._kind} if self._kind is not None else {}
        return await line.command({"type": "follow_all", "scope": "all", **kind, **self._from()})

    _read = Follow._read_of_many


class FollowAll(Follow):
    """The same of all of a member's conversations: an `Unfollowed` tells of one that is theirs no more, and others go
    on. `cursor` is the all cursor of the last checkpoint, up to which everything has been yielded."""

    _ends = False

    def __init__(
        self,
        base_url: str,
        token: TokenSource,
        cursor: str | None,
        on_rewound: Callable[[], Awaitable[None]] | None = None,
    ) -> None:
        super().__init__(base_url, token, "", cursor, on_rewound)

    async def _signed_in(self) -> Socket:
        return await sign_in(self._address, self._token, self._opened, {"follow_all": True, **self._from()})

    async def _begin(self, line: Socket) -> Frame:
        return await line.answer()  # what it asks for went with the sign-in

    _read = Follow._read_of_many
