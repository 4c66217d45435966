"""Turns the questions of many callers into one question."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Awaitable, Callable, Sequence
from typing import Generic, TypeVar

Key = TypeVar("Key")
Found = TypeVar("Found")


class Shared(Generic[Key, Found]):
    """One question is under way at a time, of at most so many; what is asked meanwhile goes into the next. Where there
    was more than one, the next waits for `pause` seconds: one who comes alone is answered at once, and of thousands who
    come together many share a question. `ask` answers each of some, in their order, and what it raises every one of
    its callers gets."""

    def __init__(
        self, ask: Callable[[Sequence[Key]], Awaitable[Sequence[Found]]], most: int, pause: float = 0.005
    ) -> None:
        self._ask = ask
        self._most = most
        self._pause = pause
        self._waiting: deque[tuple[Key, asyncio.Future[Found]]] = deque()
        self._task: asyncio.Task[None] | None = None

    async def __call__(self, key: Key) -> Found:
        """An answer that is no older than the call."""
        future: asyncio.Future[Found] = asyncio.get_running_loop().create_future()
        self._waiting.append((key, future))
        if self._task is None:
            self._task = asyncio.create_task(self._run())
        return await future

    async def _run(self) -> None:
        try:
            while self._waiting:
                count = min(self._most, len(self._waiting))
                some = [one for one in (self._waiting.popleft() for _ in range(count)) if not one[1].done()]
                if some:
                    await self._answer(some)
                if len(some) > 1 and len(self._waiting) < self._most:
                    await asyncio.sleep(self._pause)
        finally:
            self._task = None
            for _, future in self._waiting:  # only where this was cancelled
                future.cancel()
            self._waiting.clear()

    async def _answer(self, some: Sequence[tuple[Key, asyncio.Future[Found]]]) -> None:
        try:
            found = await self._ask([key for key, _ in some])
        except BaseException as error:
            for _, future in some:
                if future.done():
                    continue
                if isinstance(error, Exception):
                    future.set_exception(error)
                else:
                    future.cancel()
            if not isinstance(error, Exception):
                raise
            return
        for (_, future), one in zip(some, found, strict=True):
            if not future.done():
                future.set_result(one)

    async def stop(self) -> None:
        if self._task is not None:
            self._task.cancel()
            await asyncio.wait([self._task])
