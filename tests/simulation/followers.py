"""Followers of a simulated process: real sessions, behind lines that are not real."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Iterator
from typing import Any
from uuid import UUID

from pydantic import SecretStr
from starlette.types import Receive, Scope, Send
from starlette.websockets import WebSocket
from uvicorn.server import ServerState
from websockets.frames import Frame, Opcode

from nestrel.service.hosts import Proxies
from nestrel.service.server import config_of
from nestrel.service.settings import Settings
from nestrel.service.socket import Session
from tests.simulation.stage import Stage

_SETTINGS = Settings(
    database_url="postgresql://nobody@nowhere/nothing", jwt_secret=SecretStr("x" * 32), address_connections=10**9
)
_UPGRADE = (
    b"GET /v1/live HTTP/1.1\r\nHost: 127.0.0.1:8080\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"
    b"Sec-WebSocket-Key: dGhlIHNhbXBsZSBub25jZQ==\r\nSec-WebSocket-Version: 13\r\n\r\n"
)


def _says(user_id: str, conversation_id: UUID) -> Iterator[str]:
    yield json.dumps({"type": "sign_in", "token": user_id})
    yield json.dumps({"type": "follow", "conversation_id": str(conversation_id), "ref": 1})


async def _serve(stage: Stage, scope: Scope, receive: Receive, send: Send) -> None:
    socket = WebSocket(scope, receive, send)
    await Session(stage, socket, receive, send).run()  # type: ignore[arg-type]  # the part of Service that it uses


def bare(stage: Stage, user_id: str, conversation_id: UUID) -> None:
    """Let a session follow, alone: its line begins where the server would hand on what comes."""
    says: list[Any] = [{"type": "websocket.receive", "text": text} for text in _says(user_id, conversation_id)]
    says.insert(0, {"type": "websocket.connect"})
    says.reverse()

    async def receive() -> Any:
        return says.pop() if says else await asyncio.get_running_loop().create_future()

    async def send(message: Any) -> None:
        assert message["type"] in ("websocket.accept", "websocket.send"), message

    scope: Scope = {"type": "websocket", "headers": [], "path": "/v1/live", "client": None}
    stage.spawn(_serve(stage, scope, receive, send))


class Server:
    """The server's side of what connects to one process."""

    def __init__(self, stage: Stage) -> None:
        async def app(scope: Scope, receive: Receive, send: Send) -> None:
            await _serve(stage, scope, receive, send)

        self.config = config_of(app, _SETTINGS, Proxies(()))
        self.config.load()
        self.protocol: Any = self.config.http_protocol_class
        self.state = ServerState()

    async def stop(self) -> None:
        """The other side of each connection goes."""
        for connection in tuple(self.state.connections):
            connection.transport.close()
        await asyncio.gather(*self.state.tasks)


class Whole(asyncio.Transport):
    """A connection with all that the server has of it: its two protocols are real, and this is in place of a socket,
    and of the other side, which reads at once and answers pings."""

    __slots__ = ("_closed", "_protocol", "_says")

    def __init__(self, server: Server, user_id: str, conversation_id: UUID) -> None:
        super().__init__()
        self._says: Iterator[str] | None = _says(user_id, conversation_id)
        self._closed = False
        self._protocol: Any = server.protocol(server.config, server.state, {})
        self._protocol.connection_made(self)
        self._protocol.data_received(_UPGRADE)

    def write(self, data: Any) -> None:
        if self._says is not None:  # whatever comes is the answer to what was said last: say the next
            text = next(self._says, None)
            if text is None:
                self._says = None
            else:
                self._say(Opcode.TEXT, text.encode())
        elif data[0] == 0x80 | Opcode.PING:
            self._say(Opcode.PONG, bytes(data[2:]))

    def _say(self, opcode: Opcode, data: bytes) -> None:
        frame = Frame(opcode, data).serialize(mask=True)
        asyncio.get_running_loop().call_soon(lambda: self._protocol.data_received(frame))

    def get_extra_info(self, name: str, default: Any = None) -> Any:
        return {"peername": ("127.0.0.1", 50_000), "sockname": ("127.0.0.1", 8080)}.get(name, default)

    def set_protocol(self, protocol: Any) -> None:
        self._protocol = protocol

    def is_closing(self) -> bool:
        return self._closed

    def close(self) -> None:
        if not self._closed:
            self._closed = True
            asyncio.get_running_loop().call_soon(self._protocol.connection_lost, None)

    def abort(self) -> None:
        self.close()

    def pause_reading(self) -> None: ...

    def resume_reading(self) -> None: ...
