"""A replica that stays current by itself, and takes commands whether or not there is a line."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncGenerator, Callable, Sequence
from contextlib import AbstractAsyncContextManager
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any, Literal

from nestrel.client.attachments import file_headers
from nestrel.client.line import Line, SignedIn, address_of
from nestrel.client.messages import path as path_of
from nestrel.client.replica.outbox import Outbox
from nestrel.client.replica.previews import Previews
from nestrel.client.replica.reading import Reading
from nestrel.client.replica.store import ReplicaFile, Resynced
from nestrel.client.replica.sync import ReplicaState, Standing, Sync
from nestrel.core.objects import Message
from nestrel.core.outbox import Entry, overlaid
from nestrel.core.problems import Forbidden, NestrelError, NotFound
from nestrel.core.symbols import LIKE

if TYPE_CHECKING:
    from nestrel.client.transport import Transport


_CHUNK = 256 * 1024


class _Service:
    """`Network` on HTTP and WebSocket."""

    def __init__(self, base_url: str, transport: Transport) -> None:
        self.name = base_url.rstrip("/")
        self._transport = transport

    def line(self) -> AbstractAsyncContextManager[Line]:
        return SignedIn(address_of(self.name), self._transport.token)

    async def resync(self, cursor: str | None) -> bytes:
        body = {"cursor": cursor} if cursor is not None else {}
        return await self._transport.content("POST", "/resync", body=body)

    async def upload(
        self, conversation_id: str, name: str, size: int, read: Callable[[int, int], bytes]
    ) -> dict[str, Any]:
        async def chunks() -> AsyncGenerator[bytes]:
            start = 0
            while start < size and (chunk := await asyncio.to_thread(read, start, _CHUNK)):
                start += len(chunk)
                yield chunk

        answer: dict[str, Any] = await self._transport.json(
            "POST", path_of(conversation_id, "attachments"), stream=chunks, headers=file_headers(name, size)
        )
        return answer

    async def changes(self, conversation_id: str, cursor: str | None) -> bytes | None:
        try:
            return await self._transport.content(
                "GET", path_of(conversation_id, "changes"), params={"cursor": cursor} if cursor else {}
            )
        except (NotFound, Forbidden):
            return None


class SyncedReplica(Reading):
    """All of a member's conversations in one SQLite file.

    What it holds can be read at once, with or without a network. In an `async with` block it is kept current: `state`
    says how it stands and why. Commands go into the outbox, are durable when the call returns, and are carried out in
    their order, once each, as soon as there is a line, also after the process was killed. One that the service refuses
    stays in the outbox with its reason, for `retry` or `discard`.

    Raises:
        NotAReplica: the file is something else.
    """

    def __init__(self, path: str | Path, base_url: str, transport: Transport) -> None:
        self.file = ReplicaFile(path)
        self.outbox = Outbox(self.file)
        self._previews = Previews(self.file)
        self._service = _Service(base_url, transport)
        self._transport = transport
        self._sync = Sync(self.file, self.outbox, self._service, told=self._tell)
        self._task: asyncio.Task[None] | None = None
        self._moved = asyncio.Event()
        super().__init__(self.file)

    async def __aenter__(self) -> SyncedReplica:
        self._task = asyncio.create_task(self._sync.run(), name="replica")
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._task is not None:
            self._task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._task
        self.file.close()

    def _tell(self) -> None:
        self._moved.set()

    # How it stands

    @property
    def state(self) -> Standing:
        return self._sync.standing

    @property
    def last_resync(self) -> Resynced | None:
        """What the last catch-up brought."""
        return self._sync.last

    def retry_now(self) -> None:
        """Do not wait for the next try: the network is back, or there is a new token."""
        self._sync.retry_now()

    async def resync(self) -> Resynced:
        """Fetch what moved, once, without following; for use outside an `async with` block."""
        async with self._service.line() as line:
            self.file.claim(self._service.name, line.user_id)
        return await self._sync.catch_up()

    async def until(self, condition: Callable[[SyncedReplica], bool]) -> None:
        """Wait until the replica is as wanted; for a limit in time, `asyncio.timeout`.

        Raises:
            NestrelError: the replica has ended.
        """
        while not condition(self):
            if self._task is None or self._task.done():
                raise NestrelError("this replica is not kept current any more")
            self._moved.clear()
            await self._moved.wait()

    async def live(self) -> None:
        """Wait until everything up to now is held."""
        await self.until(lambda replica: replica.state.state is ReplicaState.LIVE)

    async def older(self, conversation_id: str, *, before: int | None = None, limit: int = 50) -> int:
        """Fetch a page of history into the replica: what lies before `before`, by default below the highest number
        that is not held. Returns how many messages came; 0 when nothing is missing there.

        Raises:
            Unreachable: there is no network.
        """
        if before is None:
            holes = self.holes(conversation_id)
            if not holes:
                return 0
            before = holes[-1][1] + 1
        epoch = self.file.epoch(conversation_id)
        where = path_of(conversation_id, "messages")
        page = await self._transport.json("GET", where, params={"before": before, "limit": limit}, repeatable=True)
        taken = self.file.add(conversation_id, page, epoch)
        self._tell()
        return len(page["items"]) if taken else 0

    async def preview(self, message: Message, attachment_id: str, width: Literal[320, 960] = 320) -> bytes:
        """A small WebP of a picture that a message has; fetched once, and there without a network from then on.

        Raises:
            NotFound: it is no picture.
            Unreachable: it was never fetched, and there is no network.
        """
        place = (message.conversation_id, message.seq, attachment_id, width)
        held = self._previews.get(*place)
        if held is None:
            where = path_of(message.conversation_id, "attachments", attachment_id, "preview")
            held = await self._transport.content("GET", where, params={"width": str(width)}, repeatable=True)
            self._previews.put(*place, held)
        return held

    # Commands

    def _command(self, *args: Any, **options: Any) -> Entry:
        entry = self.outbox.put(*args, **options)
        self._sync.something_waits()
        self._tell()
        return entry

    def post(
        self,
        conversation_id: str,
        body: str,
        *,
        key: str | None = None,
        format: Literal["plain", "markdown"] = "plain",
        attributes: dict[str, Any] | None = None,
        reply_to: int | None = None,
        mentions: Sequence[str] = (),
        files: Sequence[str | Path] = (),
    ) -> Entry:
        """Post; the entry stands in `pending` until the message has its number, and then in `messages`, never both.
        `files` are copied into the replica before this returns, and uploaded when there is a line; with some the body
        may be empty.

        Raises:
            OSError: a file cannot be read; nothing is posted.
        """
        content: dict[str, Any] = {"body": body, "format": format, "attributes": attributes or {}, "reply_to": reply_to}
        if mentions:
            content["mentions"] = list(mentions)
        enclosed = [(Path(file).name, Path(file)) for file in files]
        return self._command("post", conversation_id, content, key=key, files=enclosed)

    def edit(
        self,
        conversation_id: str,
        message: int | Entry,
        body: str,
        *,
        rev: int | None = None,
        mentions: Sequence[str] | None = None,
        attachments: Sequence[str] | None = None,
    ) -> Entry:
        """Edit a message by its number, or a post that has none yet; with `rev`, only if it has not changed since.
        `mentions` and `attachments` (by their ids) None keep those that it has."""
        content: dict[str, Any] = {"body": body} if rev is None else {"body": body, "rev": rev}
        if mentions is not None:
            content["mentions"] = list(mentions)
        if attachments is not None:
            content["attachments"] = list(attachments)
        return self._command("edit", conversation_id, content, **_target(message))

    def remove(self, conversation_id: str, message: int | Entry) -> Entry:
        return self._command("remove", conversation_id, {}, **_target(message))

    def react(self, conversation_id: str, message: int | Entry, symbol: str = LIKE) -> Entry:
        return self._command("react", conversation_id, {"symbol": symbol}, **_target(message))

    def unreact(self, conversation_id: str, message: int | Entry, symbol: str = LIKE) -> Entry:
        return self._command("unreact", conversation_id, {"symbol": symbol}, **_target(message))

    def read(self, conversation_id: str, read_seq: int) -> Entry:
        """Move one's receipt."""
        return self._command("read", conversation_id, {"read_seq": read_seq})

    def pending(self, conversation_id: str) -> list[Entry]:
        """One's own posts that have no number yet, in their order; those refused have a `problem`."""
        return [entry for entry in self.outbox.entries(conversation_id) if entry.kind == "post"]

    def refused(self) -> list[Entry]:
        """Commands that the service refused."""
        return [entry for entry in self.outbox.entries() if not entry.waiting]

    def retry(self, entry: Entry) -> None:
        """Let a refused command wait again."""
        self.outbox.retry(entry.n)
        self._sync.something_waits()
        self._tell()

    def discard(self, entry: Entry) -> None:
        """Give a command up."""
        self.outbox.discard(entry.n)
        self._tell()

    def shown(self, conversation_id: str, *, before: int | None = None, limit: int = 50) -> list[Message]:
        """`messages` as they will be once the waiting commands about them have been carried out."""
        entries, me = self.outbox.entries(conversation_id), self.file.user_id or ""
        held = self.messages(conversation_id, before=before, limit=limit)
        return [overlaid(message, entries, me) for message in held]


def _target(message: int | Entry) -> dict[str, Any]:
    return {"seq": message} if isinstance(message, int) else {"about": message.key, "seq": message.seq}
