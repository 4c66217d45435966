"""A WebSocket client as thin as can be, so that the load costs the measured machine little.

It speaks RFC 6455 as far as a load needs: text frames of its own with a zero mask, and unfragmented frames from the
server.
"""

from __future__ import annotations

import asyncio
import base64
import os
from collections.abc import Callable


def frame(payload: bytes) -> bytes:
    """A masked text frame; the mask is zero, so the payload stands as it is."""
    size = len(payload)
    if size < 126:
        head = bytes((0x81, 0x80 | size))
    elif size < 65536:
        head = bytes((0x81, 0x80 | 126)) + size.to_bytes(2, "big")
    else:
        head = bytes((0x81, 0x80 | 127)) + size.to_bytes(8, "big")
    return head + b"\x00\x00\x00\x00" + payload


class Wire(asyncio.Protocol):
    """One connection. `on_frame` gets each payload from the server."""

    def __init__(self, host: str, path: str) -> None:
        self.on_frame: Callable[[bytes], None] = lambda _payload: None
        self.opened: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self.lost: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._hello = (
            f"GET {path} HTTP/1.1\r\nHost: {host}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"
            f"Sec-WebSocket-Key: {base64.b64encode(os.urandom(16)).decode()}\r\nSec-WebSocket-Version: 13\r\n\r\n"
        ).encode()
        self._buffer = b""
        self.transport: asyncio.Transport | None = None

    def first(self) -> asyncio.Future[bytes]:
        """The next payload that comes; those behind it go by."""
        found: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()

        def take(payload: bytes) -> None:
            if not found.done():
                found.set_result(payload)

        self.on_frame = take
        return found

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self.transport = transport
        transport.write(self._hello)

    def connection_lost(self, _error: Exception | None) -> None:
        if not self.lost.done():
            self.lost.set_result(None)

    def data_received(self, data: bytes) -> None:
        data = self._buffer + data if self._buffer else data
        if not self.opened.done():
            end = data.find(b"\r\n\r\n")
            if end < 0:
                self._buffer = data
                return
            if not data.startswith(b"HTTP/1.1 101"):
                self.opened.set_exception(ConnectionError(data[:200].decode("latin-1")))
                return
            self.opened.set_result(None)
            data = data[end + 4 :]
        at = 0
        while len(data) - at >= 2:
            size, start = data[at + 1] & 0x7F, at + 2
            if size == 126:
                size, start = int.from_bytes(data[at + 2 : at + 4], "big"), at + 4
            elif size == 127:
                size, start = int.from_bytes(data[at + 2 : at + 10], "big"), at + 10
            if len(data) < start + size:
                break
            if data[at] & 0x0F == 1:
                self.on_frame(data[start : start + size])
            elif data[at] & 0x0F == 9 and self.transport is not None:  # a ping, which wants the same back (5.5.2)
                self.transport.write(bytes((0x8A, 0x80 | size)) + b"\x00\x00\x00\x00" + data[start : start + size])
            at = start + size
        self._buffer = data[at:]

    def send(self, payload: bytes) -> None:
        assert self.transport is not None
        self.transport.write(frame(payload))

    def close(self) -> None:
        if self.transport is not None:
            self.transport.close()


async def open_wire(port: int, path: str) -> Wire:
    """Connect and upgrade."""
    loop = asyncio.get_running_loop()
    _, wire = await loop.create_connection(lambda: Wire(f"127.0.0.1:{port}", path), "127.0.0.1", port)
    await wire.opened
    return wire
