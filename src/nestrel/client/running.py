"""What the blocking client stands on: the asynchronous one, on an event loop in a thread of its own."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import AsyncGenerator, AsyncIterator, Coroutine, Generator, Iterator
from types import TracebackType
from typing import TYPE_CHECKING, Any, Self, TypeVar

from nestrel.client.aio import AsyncClient
from nestrel.client.transport import TokenSource

if TYPE_CHECKING:
    from nestrel.client.follow import Event, Follow

T = TypeVar("T")


class OnThread:
    """An `AsyncClient` and the thread that runs it."""

    def __init__(self, base_url: str, token: TokenSource, *, tries: int = 5, timeout: float = 30.0) -> None:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="nestrel-client", daemon=True)
        self._thread.start()
        self._client = AsyncClient(base_url, token, tries=tries, timeout=timeout)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """End the connections and the thread."""
        if self._thread.is_alive():
            self._run(self._client.close())
            self._run(self._loop.shutdown_asyncgens())
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join()
            self._loop.close()

    def follow(self, conversation_id: str, cursor: str | None = None) -> BlockingFollow:
        """Change sets as they commit, as an iterator that reconnects by itself and resumes where it was.

        Without a cursor it begins with what comes from now on; a history page's `change_cursor` begins right after
        that page, with no hole and no double. Leaving the loop ends it.
        """
        return BlockingFollow(self, self._client.follow(conversation_id, cursor))

    def follow_all(self, cursor: str | None = None) -> BlockingFollow:
        """The same of all of one's conversations, on one line; an `Unfollowed` tells of one that is one's own no more,
        and ends nothing. `cursor` is an all cursor, as a resync gives it."""
        return BlockingFollow(self, self._client.follow_all(cursor))

    def follow_everything(self, kind: str | None = None, cursor: str | None = None) -> BlockingFollow:
        """The same of every conversation of the store, or of every one of a kind, for a trusted backend."""
        return BlockingFollow(self, self._client.follow_everything(kind, cursor))

    def _run(self, work: Coroutine[Any, Any, T]) -> T:
        future = asyncio.run_coroutine_threadsafe(work, self._loop)
        try:
            return future.result()
        except BaseException:
            future.cancel()
            raise

    def _iterate(self, items: AsyncIterator[T]) -> Generator[T]:
        async def one() -> tuple[T] | None:
            try:
                return (await items.__anext__(),)
            except StopAsyncIteration:
                return None

        try:
            while (found := self._run(one())) is not None:
                yield found[0]
        finally:
            # Its caller may have left in the middle, or have closed the client before.
            if isinstance(items, AsyncGenerator) and not self._loop.is_closed():
                self._run(items.aclose())


class BlockingFollow:
    """The change sets of a `Follow`, as an ordinary iterator; each step waits for the next one."""

    def __init__(self, client: OnThread, follow: Follow) -> None:
        self._client = client
        self.follow = follow

    def __iter__(self) -> Iterator[Event]:
        try:
            yield from self._client._iterate(self.follow)
        finally:
            self.close()

    @property
    def cursor(self) -> str | None:
        """The cursor of all that was yielded, of one conversation or of all: kept, it resumes the follow later."""
        return self.follow.cursor

    def close(self) -> None:
        """End the follow and its connection; a client that was closed has ended it."""
        if not self._client._loop.is_closed():
            self._client._run(self.follow.close())
