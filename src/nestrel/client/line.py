"""One signed-in WebSocket, and what its errors mean."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import asynccontextmanager
from typing import Any, Protocol

import orjson
from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import InvalidHandshake, WebSocketException

from nestrel.client.errors import Unreachable
from nestrel.client.transport import TokenSource, token_of
from nestrel.core.problems import Problem, Unauthenticated, from_document

_TOKEN_RAN_OUT = 4401
_SILENCE_SECONDS = 20.0

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
        self.received_bytes = 0
        self._socket = socket
        self._token = token

    async def send(self, frame: Frame) -> None:
        try:
            await self._socket.send(orjson.dumps(frame).decode())
        except (OSError, WebSocketException) as error:
            raise self._broken(error) from error

    async def receive(self) -> Frame:
        try:
            text = await self._socket.recv()
            self.received_bytes += len(text)
            frame: Frame = orjson.loads(text)
        except (OSError, WebSocketException, orjson.JSONDecodeError) as error:
            raise self._broken(error) from error
        return frame

    def _broken(self, error: Exception) -> Unreachable | Unauthenticated:
        if self._socket.close_code == _TOKEN_RAN_OUT and isinstance(self._token, str):
            return Unauthenticated("the token has run out; give the client a function that brings a new one")
        if self._socket.close_code is not None:
            closed = f"{self._socket.close_code} {self._socket.close_reason or ''}".rstrip()
            return Unreachable(f"the line was closed ({closed})")
        return Unreachable(f"the line broke: {error or type(error).__name__}")

    async def command(self, frame: Frame) -> Frame:
        """Send a frame while nothing else is under way, and return its answer. Raises `Problem` if it is refused."""
        await self.send(frame)
        answer = await self.receive()
        if answer["type"] == "refused":
            raise problem_of(answer)
        return answer


def problem_of(frame: Mapping[str, Any]) -> Problem:
    """The problem of a `refused` frame."""
    return from_document(frame["problem"], frame["problem"].get("status", 500))


def address_of(base_url: str) -> str:
    """The WebSocket's address for a service's."""
    return "ws" + base_url.rstrip("/").removeprefix("http") + "/v1/live"


@asynccontextmanager
async def signed_in(
    address: str, token: TokenSource, on_open: Callable[[ClientConnection], None] = lambda _socket: None
) -> AsyncIterator[Socket]:
    """Open a line and sign in. `on_open` gets the socket as soon as there is one, to close it.

    Raises:
        Unreachable: there is no line.
        Problem: the service refuses.
    """
    try:
        opening = connect(address, max_size=None, open_timeout=10, ping_interval=_SILENCE_SECONDS, compression=None)
        raw = await opening
    except (OSError, TimeoutError, InvalidHandshake, WebSocketException) as error:
        raise Unreachable(f"no line to {address}: {error or type(error).__name__}") from error
    try:
        on_open(raw)
        socket = Socket(raw, token)
        socket.user_id = (await socket.command({"type": "sign_in", "token": await token_of(token)}))["user_id"]
        yield socket
    finally:
        await raw.close()
