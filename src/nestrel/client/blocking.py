"""The blocking client: the asynchronous one, run on a thread of its own. There is no second implementation."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import AsyncGenerator, AsyncIterator, Coroutine, Generator, Iterable, Iterator
from types import TracebackType
from typing import Any, Literal, TypeVar

from nestrel.client.aio import AsyncClient
from nestrel.client.follow import Event, Follow
from nestrel.client.importing import Importer, ImportProgress
from nestrel.client.keeping import Form, Part
from nestrel.client.transport import TokenSource
from nestrel.core.objects import (
    ArchivePage,
    ArchiveSegment,
    ChangeSet,
    Conversation,
    ConversationPage,
    EarlierBody,
    Erasure,
    ErasurePreview,
    HistoryPage,
    Member,
    Message,
    Profile,
    Reacted,
    Reader,
    Receipt,
    RetentionPreview,
    RetentionRule,
    RetentionRun,
)
from nestrel.core.symbols import LIKE

T = TypeVar("T")


class Client:
    """`AsyncClient` for code that does not use asyncio; the same methods, and iterators where that has asynchronous
    ones. Use it in a `with` block, or call `close`."""

    def __init__(self, base_url: str, token: TokenSource, *, tries: int = 5, timeout: float = 30.0) -> None:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="nestrel-client", daemon=True)
        self._thread.start()
        self._client = AsyncClient(base_url, token, tries=tries, timeout=timeout)

    def __enter__(self) -> Client:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        if self._thread.is_alive():
            self._run(self._client.close())
            self._run(self._loop.shutdown_asyncgens())
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join()
            self._loop.close()

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

    def me(self) -> Profile:
        return self._run(self._client.me())

    def change_me(self, **fields: str | None) -> Profile:
        return self._run(self._client.change_me(**fields))

    def make_conversation(
        self,
        *,
        name: str | None = None,
        title: str = "",
        kind: str = "group",
        visibility: str = "closed",
        members: Iterable[str] = (),
        attributes: dict[str, Any] | None = None,
        retention: dict[str, Any] | None = None,
    ) -> Conversation:
        return self._run(
            self._client.make_conversation(
                name=name, title=title, kind=kind, visibility=visibility, members=members, attributes=attributes,
                retention=retention,
            )
        )  # fmt: skip

    def conversation(self, conversation_id: str) -> Conversation:
        return self._run(self._client.conversation(conversation_id))

    def conversations_page(
        self,
        scope: Literal["mine", "open"] = "mine",
        *,
        limit: int = 50,
        cursor: str | None = None,
        name: str | None = None,
    ) -> ConversationPage:
        return self._run(self._client.conversations_page(scope, limit=limit, cursor=cursor, name=name))

    def conversations(self, scope: Literal["mine", "open"] = "mine") -> Iterator[Conversation]:
        return self._iterate(self._client.conversations(scope))

    def find(self, name_or_id: str) -> Conversation:
        return self._run(self._client.find(name_or_id))

    def change_conversation(self, conversation_id: str, **fields: Any) -> Conversation:
        return self._run(self._client.change_conversation(conversation_id, **fields))

    def close_conversation(self, conversation_id: str) -> None:
        self._run(self._client.close_conversation(conversation_id))

    def members(self, conversation_id: str) -> Iterator[Member]:
        return self._iterate(self._client.members(conversation_id))

    def join(self, conversation_id: str) -> Member:
        return self._run(self._client.join(conversation_id))

    def put_member(self, conversation_id: str, user_id: str, role: str | None = None) -> Member:
        return self._run(self._client.put_member(conversation_id, user_id, role))

    def change_member(self, conversation_id: str, user_id: str, role: str) -> Member:
        return self._run(self._client.change_member(conversation_id, user_id, role))

    def remove_member(self, conversation_id: str, user_id: str = "me") -> None:
        self._run(self._client.remove_member(conversation_id, user_id))

    def post(self, conversation_id: str, body: str, **options: Any) -> Message:
        """See `AsyncClient.post` for the options."""
        return self._run(self._client.post(conversation_id, body, **options))

    def post_batch(self, conversation_id: str, messages: Iterable[dict[str, Any]]) -> list[Message]:
        return self._run(self._client.post_batch(conversation_id, messages))

    def message(self, conversation_id: str, seq: int) -> Message:
        return self._run(self._client.message(conversation_id, seq))

    def history_page(self, conversation_id: str, **query: Any) -> HistoryPage:
        """See `AsyncClient.history_page` for the query."""
        return self._run(self._client.history_page(conversation_id, **query))

    def history(
        self, conversation_id: str, *, order: Literal["desc", "asc"] = "desc", page_size: int = 200, **query: Any
    ) -> Iterator[Message]:
        return self._iterate(self._client.history(conversation_id, order=order, page_size=page_size, **query))

    def edit(self, conversation_id: str, seq: int, body: str, **options: Any) -> Message:
        """See `AsyncClient.edit` for the options."""
        return self._run(self._client.edit(conversation_id, seq, body, **options))

    def remove(self, conversation_id: str, seq: int) -> Message:
        return self._run(self._client.remove(conversation_id, seq))

    def react(self, conversation_id: str, seq: int, symbol: str = LIKE) -> Message:
        return self._run(self._client.react(conversation_id, seq, symbol))

    def unreact(self, conversation_id: str, seq: int, symbol: str = LIKE) -> Message:
        return self._run(self._client.unreact(conversation_id, seq, symbol))

    def read(self, conversation_id: str, read_seq: int) -> Receipt:
        return self._run(self._client.read(conversation_id, read_seq))

    def edits(self, conversation_id: str, seq: int) -> Iterator[EarlierBody]:
        return self._iterate(self._client.edits(conversation_id, seq))

    def reactions(self, conversation_id: str, seq: int, symbol: str | None = None) -> Iterator[Reacted]:
        return self._iterate(self._client.reactions(conversation_id, seq, symbol))

    def readers(self, conversation_id: str, seq: int) -> Iterator[Reader]:
        return self._iterate(self._client.readers(conversation_id, seq))

    def changes(self, conversation_id: str, cursor: str | None = None, *, limit: int = 200) -> ChangeSet:
        return self._run(self._client.changes(conversation_id, cursor, limit=limit))

    def retention(self, conversation_id: str | None) -> RetentionRule:
        return self._run(self._client.retention(conversation_id))

    def set_retention(self, conversation_id: str | None, *, confirm: bool = False, **rule: Any) -> RetentionRule:
        return self._run(self._client.set_retention(conversation_id, confirm=confirm, **rule))

    def clear_retention(self, conversation_id: str | None, *, confirm: bool = False) -> None:
        self._run(self._client.clear_retention(conversation_id, confirm=confirm))

    def preview_retention(self, conversation_id: str | None, **rule: Any) -> RetentionPreview:
        return self._run(self._client.preview_retention(conversation_id, **rule))

    def run_retention(self) -> RetentionRun:
        return self._run(self._client.run_retention())

    def archive_page(self, conversation_id: str, *, limit: int = 50, cursor: str | None = None) -> ArchivePage:
        return self._run(self._client.archive_page(conversation_id, limit=limit, cursor=cursor))

    def archive(self, conversation_id: str) -> Iterator[ArchiveSegment]:
        return self._iterate(self._client.archive(conversation_id))

    def archive_segment(self, conversation_id: str, segment: int) -> bytes:
        return self._run(self._client.archive_segment(conversation_id, segment))

    def export(self, conversation_id: str | None, *, part: Part = "live", form: Form = "jsonl") -> Generator[bytes]:
        return self._iterate(self._client.export(conversation_id, part=part, form=form))

    def import_lines(
        self, conversation_id: str, lines: Iterable[bytes], importer: Importer | None = None
    ) -> Iterator[ImportProgress]:
        return self._iterate(self._client.import_lines(conversation_id, lines, importer))

    def preview_erasure(self, user_id: str) -> ErasurePreview:
        return self._run(self._client.preview_erasure(user_id))

    def erase(self, user_id: str) -> Erasure:
        return self._run(self._client.erase(user_id))

    def erasure(self, erasure_id: str) -> Erasure:
        return self._run(self._client.erasure(erasure_id))

    def erasures(self) -> Iterator[Erasure]:
        return self._iterate(self._client.erasures())

    def follow(self, conversation_id: str, cursor: str | None = None) -> BlockingFollow:
        return BlockingFollow(self, self._client.follow(conversation_id, cursor))


class BlockingFollow:
    """The change sets of a `Follow`, as an ordinary iterator; each step waits for the next one."""

    def __init__(self, client: Client, follow: Follow) -> None:
        self._client = client
        self.follow = follow

    def __iter__(self) -> Iterator[Event]:
        try:
            yield from self._client._iterate(self.follow)
        finally:
            self.close()

    @property
    def cursor(self) -> str | None:
        return self.follow.cursor

    def close(self) -> None:
        self._client._run(self.follow.close())
