"""What goes on all the time beside the devices of a soak: a backend imports lines, somebody posts files."""

from __future__ import annotations

import asyncio
import contextlib
from abc import ABC, abstractmethod
from datetime import UTC, datetime, timedelta

import httpx
import orjson

from nestrel.client import AsyncClient, NestrelError
from nestrel.core.problems import KeyReused
from nestrel.core.times import format_time
from tests.support import token, until


class Beside(ABC):
    """A task that goes on until it is stopped."""

    def __init__(self, url: str, place: str) -> None:
        self.place = place
        self._url = url
        self._task: asyncio.Task[None] | None = None

    def start(self) -> None:
        self._task = asyncio.create_task(self._run())

    async def stop(self) -> None:
        """Raises whatever ended it before."""
        assert self._task is not None
        self._task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await self._task

    @abstractmethod
    async def _run(self) -> None:
        """Go on until cancelled."""

    def _ready(self) -> bool:
        return httpx.get(f"{self._url}/readyz").status_code == 200


class Import(Beside):
    """A trusted backend that brings more and more lines in, all of them each time, and again when that fails."""

    def __init__(self, url: str, place: str) -> None:
        super().__init__(url, place)
        self.lines: list[bytes] = []

    async def _run(self) -> None:
        while True:
            for n in range(len(self.lines), len(self.lines) + 40):
                at = datetime(2026, 1, 1, tzinfo=UTC) + timedelta(minutes=n)
                line = {"author_id": "odd", "body": f"line {n}", "key": f"{n}", "created_at": format_time(at)}
                self.lines.append(orjson.dumps(line))
            await self.bring()

    async def bring(self) -> None:
        """Until it has gone through once."""
        while True:
            try:
                async with AsyncClient(self._url, lambda: token("office", scope="nestrel.service")) as client:
                    async for step in client.import_lines(self.place, self.lines):
                        assert not step.refused, step.refused
                    return
            except NestrelError:
                await asyncio.to_thread(until, self._ready)


def file_bytes(n: int) -> bytes:
    """What is in the file of that number, of more than one part now and then."""
    return f"berth {n}\n".encode() * (1 + n % 7 * 30_000)


class Uploads(Beside):
    """Somebody who sends a file when there is `more` and posts it, and does both again when that fails."""

    def __init__(self, url: str, place: str) -> None:
        super().__init__(url, place)
        self.count = 0
        self.more = asyncio.Event()

    async def _run(self) -> None:
        while True:
            await self.more.wait()
            self.more.clear()
            await self._bring(self.count)
            self.count += 1

    async def _bring(self, n: int) -> None:
        while True:
            try:
                async with AsyncClient(self._url, lambda: token("ines")) as client:
                    file = await client.upload(self.place, file_bytes(n), name=f"berth-{n}.txt")
                    await client.post(self.place, f"file {n}", key=f"file-{n}", attachments=[file])
                return
            except KeyReused:
                return  # Posted by an earlier turn, whose answer was lost.
            except NestrelError:
                await asyncio.to_thread(until, self._ready)
