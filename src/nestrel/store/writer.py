"""The group commit: posts that wait while a transaction runs go together into the next one."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable, Sequence
from uuid import UUID

from nestrel.core import limits
from nestrel.core.posting import Post
from nestrel.core.problems import Problem, SlowDown, StoreUnavailable
from nestrel.store.append import Growth, Posted, append
from nestrel.store.database import Database

_Unit = tuple[Sequence[Post], asyncio.Future[list[Posted]]]

_IN_FLIGHT = 3
"""Transactions at one time: some commit while the next one is gathered and planned."""


class Writer:
    """Takes posts from every door of a process and writes them in as few transactions as there is time for.

    An idle store writes at once, so gathering adds no delay. `on_growth` is called after each commit; `on_batch` hears
    how many posts each transaction took.
    """

    def __init__(
        self,
        database: Database,
        on_growth: Callable[[Sequence[Growth]], None] = lambda _growths: None,
        on_batch: Callable[[int], None] = lambda _posts: None,
    ) -> None:
        self._database = database
        self._on_growth = on_growth
        self._on_batch = on_batch
        self._waiting: deque[_Unit] = deque()
        self._posts_waiting = 0
        self._busy: set[UUID] = set()
        self._running: set[asyncio.Task[None]] = set()

    @property
    def waiting(self) -> int:
        """Posts that no transaction has taken yet."""
        return self._posts_waiting

    def submit(self, posts: Sequence[Post]) -> asyncio.Future[list[Posted]]:
        """Queue a unit, all of one conversation. The future has its answers once they are durable, or the `Problem`
        that refused it.

        Posts of one caller are numbered in the order in which they are submitted.
        """
        future: asyncio.Future[list[Posted]] = asyncio.get_running_loop().create_future()
        if self._posts_waiting + len(posts) > limits.WRITES_WAITING:
            future.set_exception(SlowDown("the write queue of this process is full", retry_after=1))
            return future
        self._waiting.append((posts, future))
        self._posts_waiting += len(posts)
        if len(self._running) < _IN_FLIGHT:
            # Not taken at once but when the loop has run what is ready, so that posts that came together go together.
            task = asyncio.ensure_future(self._run())
            self._running.add(task)
            task.add_done_callback(self._running.discard)
        return future

    async def _run(self) -> None:
        while batch := self._gather():
            places = {posts[0].conversation_id for posts, _ in batch}
            self._busy |= places
            try:
                await self._commit(batch)
            finally:
                self._busy -= places

    def _gather(self) -> list[_Unit]:
        """Take what the next transaction writes: never a conversation that another one is writing to, so that one
        caller's posts keep their order and no transaction waits for the lock of its neighbour."""
        batch: list[_Unit] = []
        left: list[_Unit] = []
        size = 0
        while self._waiting and (not batch or size < limits.GROUP_POSTS):
            unit = self._waiting.popleft()
            if unit[0][0].conversation_id in self._busy:
                left.append(unit)
                continue
            batch.append(unit)
            size += len(unit[0])
        self._waiting.extendleft(reversed(left))
        self._posts_waiting -= size
        return batch

    async def _commit(self, batch: list[_Unit]) -> None:
        try:
            async with self._database.write() as connection:
                answers, growths = await append(self._database, connection, [posts for posts, _ in batch])
        except asyncio.CancelledError:
            _refuse(batch, StoreUnavailable("the service stopped before this was written", retry_after=1))
            raise
        except StoreUnavailable as problem:
            _refuse(batch, problem)
        except Exception as error:
            if len(batch) == 1:
                _refuse(batch, error)
                return
            for unit in batch:  # whatever the store could not take fails alone
                await self._commit([unit])
        else:
            self._on_batch(sum(len(posts) for posts, _ in batch))
            for (_, future), answer in zip(batch, answers, strict=True):
                if future.done():
                    continue  # its caller has gone
                if isinstance(answer, Problem):
                    future.set_exception(answer)
                else:
                    future.set_result(answer)
            # After the answers: whoever posted knows the number before the change set brings it to everyone.
            if growths:
                self._on_growth(growths)

    async def drain(self) -> None:
        """Wait until everything that was submitted has its answer."""
        while self._running:
            await asyncio.wait(self._running)


def _refuse(batch: Sequence[_Unit], error: Exception) -> None:
    for _, future in batch:
        if not future.done():
            future.set_exception(error)
