"""Files on their way in and out: streamed, counted, and known by their content."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import hashlib
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from contextlib import asynccontextmanager, contextmanager
from dataclasses import dataclass
from uuid import UUID, uuid4

import structlog
from starlette.requests import ClientDisconnect

from nestrel.core import limits
from nestrel.core.attachments import Attachment
from nestrel.core.callers import Caller
from nestrel.core.problems import NotFound, Problem, StoreUnavailable, Trouble, invalid
from nestrel.files import kinds
from nestrel.files.objects import CHUNK, Files, FilesUnavailable, Spool
from nestrel.files.pictures import Picture, Pictures, TooManyPixels
from nestrel.files.queueing import Left
from nestrel.service import metrics
from nestrel.service.transfers import Transfer, Transfers
from nestrel.service.underway import Line
from nestrel.store.access import Access
from nestrel.store.database import Database
from nestrel.store.keep import collecting
from nestrel.store.read import attachments
from nestrel.store.read.attachments import Shown
from nestrel.store.write import uploads
from nestrel.store.write.uploads import Came

log = structlog.get_logger()


@dataclass(frozen=True, slots=True)
class Sent:
    """What a caller says of a file: whose it will be, its name, how large it is, if that is known, and its hashes by
    algorithm."""

    uploader_id: str
    name: str
    size: int
    digests: Mapping[str, bytes]


@dataclass(frozen=True, slots=True)
class Asking:
    """Who asks for a file to come or to go: a person, or whoever has a link. `line` is the server's side of their
    connection, `waits` whether they are still there."""

    of: str
    service: bool = False
    line: Line | None = None
    waits: Callable[[], bool] = lambda: True

    def share(self, most: int) -> int | None:
        """How many files of theirs may be on their way; a backend asks for everybody."""
        return None if self.service else most

    def cut(self, problem: Problem) -> None:
        """End the request that it is about."""
        if self.line is not None:
            self.line.end_request(problem)


class Attachments:
    """The files of one process. Each that comes or goes takes about a megabyte, and there are no more than some."""

    def __init__(self, database: Database, files: Files) -> None:
        self._database = database
        self._files = files
        self._transfers = Transfers()
        self._making: dict[tuple[UUID, int], asyncio.Task[UUID]] = {}
        self._wanted: dict[tuple[UUID, int], list[Callable[[], bool]]] = {}
        self.pictures = Pictures()

    async def take(
        self, access: Access, caller: Caller, sent: Sent, chunks: AsyncIterator[bytes], asks: Asking | None = None
    ) -> tuple[Attachment, bool]:
        """Take a file in, and make it an attachment once its bytes are durable; True for a new one.

        Raises:
            InvalidRequest: it is not what its digest says, or a picture of too many pixels.
            OverQuota, NotFound, Forbidden, StoreUnavailable: as `nestrel.store.write.uploads`.
        """
        object_id, bound = uuid4(), not caller.service
        asks = asks or Asking(caller.user_id, service=caller.service)
        with self._transfers.turn(f"from {asks.of}", asks.share(limits.UPLOADS_EACH), asks.cut) as transfer:
            await uploads.begin(
                self._database, access, object_id, sent.uploader_id, sent.name, sent.size, sent.digests.get("sha-256"),
                bound=bound,
            )  # fmt: skip
            try:
                came = await self._receive(object_id, sent, _counted(chunks, transfer), asks)
                metrics.ATTACHMENT_BYTES.labels("in").inc(came.size)
                return await uploads.finish(self._database, access.id, uuid4(), came, caller, bound=bound)
            except BaseException:
                with contextlib.suppress(Exception):  # whatever stays, the collector finds
                    await asyncio.shield(uploads.give_up(self._database, object_id))
                raise

    async def _receive(self, object_id: UUID, sent: Sent, chunks: AsyncIterator[bytes], asks: Asking) -> Came:
        with _troubles():
            spool = await self._files.spool(object_id)
            try:
                head, size, sha256 = await _write(spool, sent, chunks)
                kind, picture = await self._look(spool, head, sent.name, asks)
                await spool.keep()
            except BaseException:
                await spool.discard()
                raise
        if picture is None:
            return Came(object_id, sent.uploader_id, sent.name, kind, size, sha256)
        return Came(object_id, sent.uploader_id, sent.name, kind, size, sha256, picture.width, picture.height,
                    picture.still)  # fmt: skip

    async def _look(self, spool: Spool, head: bytes, name: str, asks: Asking) -> tuple[str, Picture | None]:
        kind = kinds.kind_of(head, name)
        if kind not in kinds.PICTURES:
            return kind, None
        try:
            picture = await self.pictures.look(spool.file.fileno(), asks.of, asks.waits)
        except TooManyPixels:
            raise invalid("", f"a picture has at most {limits.PICTURE_PIXELS:,} pixels; make it smaller") from None
        except Left:
            raise ClientDisconnect from None
        return (kinds.OTHER, None) if picture is None else (picture.media_type, picture)

    @asynccontextmanager
    async def open(self, object_id: UUID, start: int, end: int, asks: Asking) -> AsyncIterator[AsyncIterator[bytes]]:
        """The bytes of an object from `start` up to `end`, once it is known that they are there. Raises `SlowDown`
        where too many are on their way."""
        share = asks.share(limits.DOWNLOADS_EACH)
        with self._transfers.turn(f"to {asks.of}", share, asks.cut) as transfer, _troubles():
            reading = self._files.read(object_id, start, end)
            first = await anext(reading, None)
            metrics.ATTACHMENT_BYTES.labels("out").inc(end - start)
            yield _counted(_joined(first, reading), transfer)

    async def preview(self, shown: Shown, conversation_id: UUID, width: int, asks: Asking) -> tuple[UUID, int]:
        """The object that holds a picture's preview, made now if it never was, and its size.

        Raises:
            NotFound: the attachment is no picture.
        """
        if shown.attachment.width is None:
            raise NotFound(f"attachment {shown.attachment.id} is no picture")
        key = (shown.object_id, width)
        making = self._making.get(key)
        self._wanted.setdefault(key, []).append(asks.waits)
        if making is None:
            making = self._making[key] = asyncio.create_task(self._find_or_make(key, conversation_id, asks.of))
            making.add_done_callback(lambda done: self._made(key, done))
        try:
            object_id = await asyncio.shield(making)
        except Left:
            raise ClientDisconnect from None
        with _troubles():
            return object_id, await self._files.size(object_id)

    def _made(self, key: tuple[UUID, int], done: asyncio.Task[UUID]) -> None:
        del self._making[key]
        del self._wanted[key]
        if not done.cancelled():
            done.exception()  # whoever waited has it; nobody may be left to

    async def _find_or_make(self, key: tuple[UUID, int], conversation_id: UUID, of: str) -> UUID:
        object_id, width = key
        async with self._database.read() as connection:
            there = await attachments.preview(connection, object_id, width)
        if there is not None:
            return there
        content = await self._paint(object_id, width, of, lambda: any(waits() for waits in self._wanted[key]))
        preview_id = uuid4()
        await uploads.announce(self._database, conversation_id, preview_id)
        with _troubles():
            spool = await self._files.spool(preview_id)
            try:
                await spool.write([content])
                await spool.keep()
            except BaseException:
                await spool.discard()
                raise
        if await collecting.add_preview(self._database, object_id, width, preview_id):
            return preview_id
        await uploads.give_up(self._database, preview_id)
        async with self._database.read() as connection:
            there = await attachments.preview(connection, object_id, width)
        if there is None:
            raise NotFound("the picture has gone")
        return there

    async def _paint(self, object_id: UUID, width: int, of: str, wanted: Callable[[], bool]) -> bytes:
        with _troubles():
            file = await self._files.local(object_id)
        try:
            content = await self.pictures.preview(file.fileno(), width, of, wanted)
        except TooManyPixels:
            content = None
        finally:
            file.close()
        if content is None:
            raise NotFound("there is no picture to be seen in it")
        return content

    async def stop(self) -> None:
        """Leave previews that are being made, and end the process that makes them."""
        for task in tuple(self._making.values()):
            task.cancel()
        if self._making:
            await asyncio.wait(tuple(self._making.values()), timeout=1)
        self.pictures.end()

    async def collect(self) -> None:
        """Delete what nobody can read any more, until there is nothing."""
        while await collecting.loosen(self._database):
            pass
        while taken := await collecting.take(self._database):
            with _troubles():
                await self._files.delete(taken)
            await collecting.forget(self._database, taken)
            metrics.OBJECTS_COLLECTED.inc(len(taken))
        while await collecting.forget_days(self._database):
            pass


async def _write(spool: Spool, sent: Sent, chunks: AsyncIterator[bytes]) -> tuple[bytes, int, bytes]:
    """Write a file as it comes; its beginning, its size and its SHA-256."""
    hashes = {name: hashlib.new(_HASHES[name]) for name in {"sha-256", *sent.digests}}
    head, size, waiting, gathered = bytearray(), 0, list[bytes](), 0

    async def put(parts: list[bytes]) -> None:
        await spool.write(parts, *(one.update for one in hashes.values()))

    putting = asyncio.ensure_future(put([]))
    try:
        async for chunk in chunks:
            size += len(chunk)
            gathered += len(chunk)
            if len(head) < kinds.HEAD:
                head += chunk[: kinds.HEAD - len(head)]
            waiting.append(chunk)
            if gathered >= _PART:  # what is next comes while this is written
                await putting
                putting = asyncio.ensure_future(put(waiting))
                waiting, gathered = [], 0
        await putting
        await put(waiting)
    finally:
        await asyncio.wait({putting})
    for name, digest in sent.digests.items():
        if hashes[name].digest() != digest:
            raise invalid("/Content-Digest", f"does not fit: the {name} of the {size:,} bytes that came is another one")
    return bytes(head), size, hashes["sha-256"].digest()


_PART = 4 * CHUNK
"""Bytes that are written at one time."""
_HASHES = {"sha-256": "sha256", "sha-512": "sha512"}
"""Algorithms of Content-Digest (RFC 9530)."""


async def _counted(parts: AsyncIterator[bytes], transfer: Transfer) -> AsyncIterator[bytes]:
    async for part in parts:
        yield part
        transfer.moved(len(part))


async def _joined(first: bytes | None, rest: AsyncIterator[bytes]) -> AsyncIterator[bytes]:
    if first is not None:
        yield first
    async for part in rest:
        yield part


@contextmanager
def _troubles() -> Iterator[None]:
    try:
        yield
    except FilesUnavailable as error:
        log.warning("files.failed", reason=str(error))
        full = isinstance(error.__cause__, OSError) and error.__cause__.errno in (errno.ENOSPC, errno.EDQUOT)
        raise StoreUnavailable(
            "there is no room for files" if full else "files cannot be written or read at the moment",
            retry_after=5,
            reason=Trouble.FULL if full else Trouble.AWAY,
        ) from error
