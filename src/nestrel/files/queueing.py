"""A queue with turns for each person, however many things one person asks for."""

from __future__ import annotations

import asyncio
from collections import OrderedDict, deque
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager

from nestrel.core.problems import SlowDown


class Left(Exception):
    """Nobody waits any more for what was asked."""


class FairQueue:
    """One turn at a time. Of those who wait everybody has one before anybody has another; more than `each` of one
    person's, or `most` of all, are refused."""

    def __init__(self, each: int, most: int) -> None:
        self._each = each
        self._most = most
        self._busy = False
        self._waiting: OrderedDict[str, deque[asyncio.Future[None]]] = OrderedDict()

    @property
    def waiting(self) -> int:
        return sum(map(len, self._waiting.values()))

    @asynccontextmanager
    async def turn(self, of: str, wanted: Callable[[], bool] = lambda: True) -> AsyncIterator[None]:
        """Somebody's turn. `wanted` is asked when it comes.

        Raises:
            SlowDown: too many wait.
            Left: it is not wanted any more.
        """
        if self._busy:
            await self._wait(of)
        self._busy = True
        try:
            if not wanted():
                raise Left
            yield
        finally:
            self._busy = False
            self._next()

    async def _wait(self, of: str) -> None:
        own = self._waiting.get(of, ())
        if len(own) >= self._each or self.waiting >= self._most:
            raise SlowDown("as many pictures wait as this process takes; try again", retry_after=2)
        turn: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting.setdefault(of, deque()).append(turn)
        try:
            await turn
        except asyncio.CancelledError:
            if turn.done() and not turn.cancelled():  # it has just come, and goes on to whoever is next
                self._busy = False
                self._next()
            else:
                self._leave(of, turn)
            raise

    def _leave(self, of: str, turn: asyncio.Future[None]) -> None:
        own = self._waiting.get(of)
        if own is not None and turn in own:
            own.remove(turn)
            if not own:
                del self._waiting[of]

    def _next(self) -> None:
        while self._waiting and not self._busy:
            of, own = next(iter(self._waiting.items()))
            turn = own.popleft()
            if own:
                self._waiting.move_to_end(of)
            else:
                del self._waiting[of]
            if not turn.done():
                self._busy = True
                turn.set_result(None)
