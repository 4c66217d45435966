"""Somebody who writes, removes and follows while things are done to a cluster, and measures for how long nothing is
taken and how late it is heard."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from itertools import pairwise

import httpx

from nestrel.client import AsyncClient
from nestrel.core.objects import ChangeSet
from nestrel.core.problems import NestrelError
from tests.support import Person, token

BACK_SECONDS = 120.0
"""For so long is waited for writes to be taken again; that it took longer than it may is said, not waited for."""


class Probe:
    """One member who writes and one who follows, as fast as a person might."""

    def __init__(self, url: str, place: str) -> None:
        self._url = url
        self._place = place
        self.taken: dict[str, float] = {}
        self.heard: dict[str, float] = {}
        self.resets = 0
        self.stale: list[str] = []
        self._done = asyncio.Event()
        self._more = asyncio.Event()

    @asynccontextmanager
    async def running(self) -> AsyncIterator[Probe]:
        first = Person(self._url, "odd")
        cursor: str = (await first.page(self._place))["change_cursor"]  # before anything is posted
        await first.http.aclose()
        async with asyncio.TaskGroup() as tasks:
            writing = tasks.create_task(self._write())
            removing = tasks.create_task(self._remove())
            following = tasks.create_task(self._follow(cursor))
            try:
                yield self
            finally:
                self._done.set()
                await asyncio.wait({writing, removing}, timeout=60)
                with contextlib.suppress(TimeoutError):
                    async with asyncio.timeout(60):
                        while not self.heard.keys() >= self.taken.keys():
                            await asyncio.sleep(0.05)
                for task in (writing, removing, following):
                    task.cancel()

    async def _pause(self) -> None:
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self._done.wait(), 0.1)

    async def _write(self) -> None:
        person, n = Person(self._url, "mara"), 0
        while not self._done.is_set():
            n += 1
            if await self._until_taken(person, f"probe {n}"):
                self.taken[f"probe {n}"] = time.monotonic()
                self._more.set()
            await self._pause()

    async def _until_taken(self, person: Person, body: str) -> int:
        """Post, and again with the same key until it is acknowledged; returns its number, 0 at the end of all."""
        while not self._done.is_set():
            with contextlib.suppress(httpx.HTTPError):
                answer = await person.http.post(
                    f"/conversations/{self._place}/messages", json={"body": body}, timeout=15,
                    headers={"Idempotency-Key": body},
                )  # fmt: skip
                if answer.status_code in (200, 201):
                    return int(answer.json()["seq"])
                if answer.status_code != 503:
                    raise AssertionError(f"a post was answered {answer.status_code}: {answer.text}")
            await self._pause()
        return 0

    async def _remove(self) -> None:
        """Whoever has removed a message finds it gone, whichever process and whichever server answers."""
        person, n = Person(self._url, "mara"), 0
        while not self._done.is_set():
            n += 1
            body = f"removed {n}"
            if seq := await self._until_taken(person, body):
                here = f"/conversations/{self._place}/messages"
                with contextlib.suppress(httpx.HTTPError):
                    gone = await person.http.delete(f"{here}/{seq}", timeout=15)
                    if gone.status_code == 200:
                        page = await person.http.get(here, params={"limit": 50}, timeout=15)
                        if page.status_code == 200 and body in page.text:
                            self.stale.append(body)
            await self._pause()

    async def _follow(self, cursor: str) -> None:
        async with AsyncClient(self._url, lambda: token("odd"), timeout=15) as client:
            while True:
                with contextlib.suppress(NestrelError):
                    async with client.follow(self._place, cursor=cursor) as events:
                        async for event in events:
                            if isinstance(event, ChangeSet):
                                self.resets += event.reset
                                cursor, now = event.cursor, time.monotonic()
                                for message in event.messages:
                                    self.heard.setdefault(message.body, now)
                await self._pause()

    def refused(self, since: float) -> float:
        """The longest time without an acknowledgement."""
        at = [since, *(one for one in self.taken.values() if one > since)]
        return max((b - a for a, b in pairwise(at)), default=BACK_SECONDS)

    def late(self, since: float) -> float:
        """How late the latest of what was taken was heard."""
        return max(
            (self.heard.get(body, at + BACK_SECONDS) - at for body, at in self.taken.items() if at > since),
            default=0.0,
        )

    async def taken_after(self, moment: float) -> bool:
        """Wait until something is taken again; False when it is not."""
        try:
            async with asyncio.timeout(BACK_SECONDS):
                while not any(at > moment for at in self.taken.values()):
                    self._more.clear()
                    await self._more.wait()
        except TimeoutError:
            return False
        return True
