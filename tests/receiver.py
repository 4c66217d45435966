"""A receiver of webhooks that does as it is told: it takes, refuses, redirects, hangs, trickles or lies."""

from __future__ import annotations

import asyncio
import base64
import hmac
import json
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from typing import Any, NamedTuple

from nestrel.core.objects import ChangeSet
from nestrel.core.replica import Replica
from nestrel.core.webhooks import secret_of
from tests.support import PATIENCE, once

Answer = Callable[[asyncio.StreamWriter], Awaitable[None]]


class Got(NamedTuple):
    """A request as it came, with the number of its connection."""

    path: str
    headers: dict[str, str]
    body: bytes
    at: float

    @property
    def json(self) -> dict[str, Any]:
        parsed: dict[str, Any] = json.loads(self.body)
        return parsed

    def signed_by(self, secret: str) -> bool:
        """Whether one of its signatures is by a secret, checked as the specification says."""
        text = f"{self.headers['webhook-id']}.{self.headers['webhook-timestamp']}.".encode() + self.body
        mark = base64.b64encode(hmac.digest(secret_of(secret), text, "sha256")).decode()
        return f"v1,{mark}" in self.headers["webhook-signature"].split(" ")


def status(code: int, **headers: str) -> Answer:
    """An answer without a body."""
    lines = "".join(f"{name.replace('_', '-')}: {value}\r\n" for name, value in headers.items())

    async def answer(writer: asyncio.StreamWriter) -> None:
        writer.write(f"HTTP/1.1 {code} so\r\ncontent-length: 0\r\n{lines}\r\n".encode())

    return answer


TAKEN = status(204)


async def hang(_writer: asyncio.StreamWriter) -> None:
    """Never answer."""
    await asyncio.sleep(PATIENCE)


async def lie(writer: asyncio.StreamWriter) -> None:
    """Take it, and say that more comes than does."""
    writer.write(b"HTTP/1.1 200 OK\r\ncontent-length: 100000\r\n\r\nshort")


async def flood(writer: asyncio.StreamWriter) -> None:
    """Take it, and send without an end."""
    writer.write(b"HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n")
    while True:
        writer.write(b"4000\r\n" + b"x" * 0x4000 + b"\r\n")
        await writer.drain()


async def garble(writer: asyncio.StreamWriter) -> None:
    """Speak something that is not HTTP."""
    writer.write(b"\x00\x01 hello\r\n\r\n")


class Receiver:
    """Listens on loopback. `answer` is what it does next; `taken` are the requests that it has taken (2xx)."""

    def __init__(self) -> None:
        self.answer: Answer = TAKEN
        self.got: list[Got] = []
        self.taken: list[Got] = []
        self.port = 0
        self.held: dict[str, Replica] = {}
        self.closed: list[str] = []
        self.newest: dict[str, int] = {}
        self.back: list[str] = []
        self._open: set[asyncio.StreamWriter] = set()

    @property
    def url(self) -> str:
        return f"http://127.0.0.1:{self.port}/in"

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._open.add(writer)
        try:
            while True:
                head = (await reader.readuntil(b"\r\n\r\n")).decode().split("\r\n")
                headers = {
                    name.lower(): value for name, value in (line.split(": ", 1) for line in head[1:] if line)
                }  # fmt: skip
                body = await reader.readexactly(int(headers["content-length"]))
                got = Got(head[0].split(" ")[1], headers, body, time.monotonic())
                self.got.append(got)
                answer = self.answer
                if answer in (TAKEN, lie, flood):
                    self._take(got)
                await answer(writer)
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError):
            pass
        finally:
            self._open.discard(writer)
            writer.close()

    def end(self) -> None:
        for writer in self._open:
            writer.transport.abort()

    def _take(self, got: Got) -> None:
        """Hold what came as a client would, and note where the order of one conversation went back."""
        self.taken.append(got)
        if got.json["type"] == "closed":
            self.closed += [item["conversation_id"] for item in got.json["data"]["items"]]
        if got.json["type"] != "changes":
            return
        for item in got.json["data"]["items"]:
            changes = ChangeSet.model_validate(item)
            id_ = changes.conversation_id
            if changes.reset:
                self.newest.pop(id_, None)
            for message in changes.messages:
                if message.seq > self.newest.get(id_, message.seq - 1) + 1:
                    self.back.append(f"{id_}: {message.seq} behind {self.newest.get(id_)}")
                self.newest[id_] = max(self.newest.get(id_, 0), message.seq)
            self.held.setdefault(id_, Replica(id_)).apply(changes)

    @property
    def items(self) -> list[dict[str, Any]]:
        """The change sets that were taken, in order."""
        return [item for one in self.taken if one.json["type"] == "changes" for item in one.json["data"]["items"]]

    def bodies(self, conversation: str) -> list[str]:
        """The messages of a conversation as they came, in order."""
        return [
            row["body"] for item in self.items if item["conversation_id"] == conversation for row in item["messages"]
        ]

    async def has(self, enough: Callable[[Receiver], bool]) -> None:
        """Wait until what has come is enough."""

        async def look() -> Receiver:
            return self

        await once(look, enough)


@asynccontextmanager
async def receiver() -> AsyncIterator[Receiver]:
    """A receiver that listens."""
    made = Receiver()
    server = await asyncio.start_server(made._serve, "127.0.0.1", 0)
    made.port = server.sockets[0].getsockname()[1]
    try:
        yield made
    finally:
        server.close()
        made.end()
