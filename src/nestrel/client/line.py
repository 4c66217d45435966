"""One signed-in WebSocket, and what its errors mean."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Mapping
from types import MappingProxyType, TracebackType
from typing import Any, Protocol

import orjson
from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import InvalidHandshake, InvalidStatus, WebSocketException

from nestrel.client.transport import TokenSource, token_of
from nestrel.core.problems import Problem, Unauthenticated, Unreachable, from_document

_GOING_AWAY, _TOKEN_RAN_OUT = 1001, 4401
_SILENCE_SECONDS = 20.0
_ANSWERS = ("signed_in", "done", "refused")
_EARLY_MOST = 1_000
"""Frames that may come before an answer; a few do, of what moved just then."""

Frame = dict[str, Any]


class Line(Protocol):
    """A line that is signed in. Both methods raise `Unreachable` when it breaks."""

    user_id: str

    async def send(self, frame: Frame) -> None: ...

    async def receive(self) -> Frame: ...


class Socket:
    """`Line` on a WebSocket."""

    def __init__(self, socket: ClientConnection, token: TokenSource) -> None:
        self.user_id = ""
        self._socket = socket
        self._token = token
        self._early: deque[Frame] = deque()

    async def send(self, frame: Frame) -> None:
        try:
            await self._socket.send(orjson.dumps(frame).decode())
        except (OSError, WebSocketException) as error:
            raise self._broken(error) from error

    async def receive(self) -> Frame:
        return self._early.popleft() if self._early else await self._next()

    async def _next(self) -> Frame:
        try:
            text = await self._socket.recv()
            frame: Frame = orjson.loads(text)
        except (OSError, WebSocketException, orjson.JSONDecodeError) as error:
            raise self._broken(error) from error
        return frame

    def _broken(self, error: Exception) -> Unreachable | Unauthenticated:
        if self._socket.close_code == _TOKEN_RAN_OUT and isinstance(self._token, str):
            return Unauthenticated("the token has run out; give the client a function that brings a new one")
        if self._socket.close_code is not None:
            closed = f"{self._socket.close_code} {self._socket.close_reason or ''}".rstrip()
            leaving = self._socket.close_code == _GOING_AWAY
            return Unreachable(f"the line was closed ({closed})", leaving=leaving)
        return Unreachable(f"the line broke: {error or type(error).__name__}")

    async def close(self) -> None:
        await self._socket.close()

    def abort(self) -> None:
        """Cut it, when nobody is left to wait for its end."""
        self._socket.transport.abort()

    async def command(self, frame: Frame) -> Frame:
        """Send a frame while no other command is under way, and return its answer; what is told before it is received
        afterwards. Raises `Problem` if it is refused."""
        await self.send(frame)
        return await self.answer()

    async def answer(self) -> Frame:
        """The answer to what was sent."""
        while (answer := await self._next())["type"] not in _ANSWERS:
            if len(self._early) == _EARLY_MOST:
                raise Unreachable("the service does not answer")
            self._early.append(answer)
        if answer["type"] == "refused":
            raise problem_of(answer)
        return answer


def problem_of(frame: Mapping[str, Any]) -> Problem:
    """The problem of a `refused` frame."""
    return from_document(frame["problem"], frame["problem"].get("status", 500))


def address_of(base_url: str) -> str:
    """The WebSocket's address for a service's."""
    return "ws" + base_url.rstrip("/").removeprefix("http") + "/v1/live"


async def sign_in(
    address: str,
    token: TokenSource,
    on_open: Callable[[ClientConnection], None] = lambda _socket: None,
    beside: Mapping[str, Any] = MappingProxyType({}),
) -> Socket:
    """Open a line and sign in; whoever asked closes it. `on_open` gets the socket as soon as there is one; it may raise
    to give up. `beside` goes with the same frame; what that asks for has an answer of its own.

    Raises:
        Unreachable: there is no line.
        Problem: the service refuses.
    """
    try:
        raw = await connect(address, max_size=None, open_timeout=10, ping_interval=_SILENCE_SECONDS, compression=None)
    except InvalidStatus as error:
        again = error.response.headers.get("Retry-After", "")
        seconds = float(again) if again.isdigit() else None
        raise Unreachable(f"no line to {address}: {error}", retry_after=seconds) from error
    except (OSError, TimeoutError, InvalidHandshake, WebSocketException) as error:
        raise Unreachable(f"no line to {address}: {error or type(error).__name__}") from error
    socket = Socket(raw, token)
    try:
        on_open(raw)
        answer = await socket.command({"type": "sign_in", "token": await token_of(token), **beside})
    except BaseException:
        await socket.close()
        raise
    socket.user_id = answer["user_id"]
    return socket


class SignedIn:
    """A line for an `async with` block. No generator: the loop closes those at its end, whatever runs within them."""

    def __init__(self, address: str, token: TokenSource) -> None:
        self._address = address
        self._token = token
        self._line: Socket | None = None

    async def __aenter__(self) -> Socket:
        self._line = await sign_in(self._address, self._token)
        return self._line

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._line is not None:
            await self._line.close()
