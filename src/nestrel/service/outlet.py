"""The outgoing side of one WebSocket: frames that wait together are sent together."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Sequence
from typing import Protocol

from starlette.types import Send
from starlette.websockets import WebSocketDisconnect

from nestrel.service.outgoing import SMALL, Outgoing


class Wire(Protocol):
    """The server's own side of a connection."""

    async def send_texts(self, texts: Sequence[bytes]) -> None: ...


class Outlet:
    """Sends text frames, past the framework's layers, which would cost as much again for each. `since` is when what is
    being sent was begun, None while nothing is.

    Each call raises `WebSocketDisconnect` when the other side has gone.
    """

    def __init__(self, outgoing: Outgoing, wire: Wire | None, send: Send) -> None:
        self.since: float | None = None
        self._outgoing = outgoing
        self._wire = wire
        self._send = send

    async def first_of(self, waiting: deque[bytes]) -> None:
        """Take from the front as many frames as are small together, one at least, and send them."""
        some = [waiting.popleft()]
        size = len(some[0])
        while waiting and size + len(waiting[0]) <= SMALL:
            size += len(waiting[0])
            some.append(waiting.popleft())
        await self.send(some, size)

    async def send(self, texts: Sequence[bytes], size: int) -> None:
        """Send frames of so many bytes together, once there is room for what is large."""
        large = size > SMALL
        if large:
            await self._outgoing.room_for(size)
            self._outgoing.held += size
        self.since = time.monotonic()
        try:
            if self._wire is not None:
                await self._wire.send_texts(texts)
            else:
                for text in texts:
                    await self._send({"type": "websocket.send", "text": text.decode()})
        except OSError:
            raise WebSocketDisconnect(1006) from None
        finally:
            self.since = None
            if large:
                self._outgoing.let_go(size)
