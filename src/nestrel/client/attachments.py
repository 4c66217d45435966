"""The calls on attachments: send a file, fetch one, its preview, and a link to it."""

from __future__ import annotations

import asyncio
import base64
import hashlib
import os
import re
from collections.abc import AsyncGenerator, AsyncIterator, Callable
from pathlib import Path
from typing import BinaryIO, Literal, NamedTuple
from urllib.parse import quote, unquote

from nestrel.client.messages import MessageCalls, path
from nestrel.core.objects import Attachment, AttachmentLink
from nestrel.core.problems import NestrelError, Unreachable

_CHUNK = 256 * 1024
_NAMED = re.compile(r"filename\*=UTF-8''(\S+)")

Progress = Callable[[int, int], object]
"""Told how many bytes have gone or come, and of how many."""


class Changed(NestrelError):
    """What was fetched is not what was sent: its hash is another."""


def file_headers(name: str, size: int) -> dict[bytes, bytes]:
    """What goes with the bytes of a file."""
    return {
        b"Content-Type": b"application/octet-stream",
        b"Content-Length": str(size).encode(),
        b"Content-Disposition": f"attachment; filename*=UTF-8''{quote(name, safe='')}".encode(),
    }


class AttachmentCalls(MessageCalls):
    """The part of `AsyncClient` that is about attachments."""

    async def upload(
        self,
        conversation_id: str,
        file: str | Path | bytes,
        *,
        name: str | None = None,
        on_behalf_of: str | None = None,
        progress: Progress | None = None,
    ) -> Attachment:
        """Send a file, given by its path or its bytes, and return it as an attachment that can be posted.

        What kind it is the service finds in its content. `name` is by default that of the file. The same bytes under
        the same name are not kept twice, so it is sent again until there is an answer. A file that is read from a path
        is read twice, and never held whole.

        Raises:
            OSError: the file cannot be read.
        """
        where = path(conversation_id, "attachments")
        source = _Source(file)
        size, digest = await asyncio.to_thread(source.measure)
        headers = file_headers(name or source.name, size)
        headers[b"Content-Digest"] = f"sha-256=:{base64.b64encode(digest).decode()}:".encode()
        answer = await self._transport.json(
            "POST", where, stream=lambda: source.chunks(size, progress), params={"on_behalf_of": on_behalf_of},
            headers=headers, repeatable=True,
        )  # fmt: skip
        return Attachment.model_validate(answer)

    async def _described(self, conversation_id: str, attachment_id: str) -> _Described:
        headers = await self._transport.head(path(conversation_id, "attachments", attachment_id))
        named = _NAMED.search(headers.get("content-disposition", ""))
        name = unquote(named[1]) if named else "file"
        return _Described(attachment_id, name, int(headers["content-length"]), headers["etag"].strip('"'))

    async def attachment(self, conversation_id: str, attachment_id: str) -> AsyncIterator[bytes]:
        """The bytes of an attachment in chunks as they come; where the line breaks, from there on again.

        Raises:
            Expired: it belongs to messages that are no longer kept.
            NotFound: there is none that one may read, or it was removed.
        """
        async for chunk in self._transport.ranged(path(conversation_id, "attachments", attachment_id)):
            yield chunk

    async def download(
        self,
        conversation_id: str,
        attachment: Attachment | str,
        into: str | Path = ".",
        *,
        progress: Progress | None = None,
    ) -> Path:
        """Fetch an attachment, as a message has it or by its id, into a new file, which is there only once it is whole
        and as it was sent; or into a folder, under its own name. Returns where it is.

        Raises:
            Changed: it is not what the message says.
            FileExistsError: there is a file of that name already.
            OSError: the file cannot be written.
        """
        wanted: Attachment | _Described = (
            await self._described(conversation_id, attachment) if isinstance(attachment, str) else attachment
        )
        target, hashed, came = await asyncio.to_thread(_target, Path(into), wanted.name), hashlib.sha256(), 0
        part = target.with_name(f"{target.name}.part")
        file = await asyncio.to_thread(_created, part)
        try:
            async for chunk in self.attachment(conversation_id, wanted.attachment_id):
                hashed.update(chunk)
                await asyncio.to_thread(file.write, chunk)
                came += len(chunk)
                if progress is not None:
                    progress(came, wanted.bytes)
            if hashed.hexdigest() != wanted.sha256:
                raise Changed(f"{wanted.name} is not what was sent")
            await asyncio.to_thread(file.close)
            await asyncio.to_thread(os.replace, part, target)
        finally:
            file.close()
            part.unlink(missing_ok=True)
        return target

    async def preview(self, conversation_id: str, attachment_id: str, width: Literal[320, 960] = 320) -> bytes:
        """A small WebP of a picture. Raises `NotFound` for what is none."""
        where = path(conversation_id, "attachments", attachment_id, "preview")
        return await self._transport.content("GET", where, params={"width": str(width)}, repeatable=True)

    async def link(self, conversation_id: str, attachment_id: str, *, expires_in: int = 3_600) -> AttachmentLink:
        """An address at which an attachment is to be had without a token, for `expires_in` seconds (at most a day) and
        only while one may read it oneself."""
        where = path(conversation_id, "attachments", attachment_id, "link")
        answer = await self._transport.json("POST", where, body={"expires_in": expires_in}, repeatable=True)
        return AttachmentLink.model_validate(answer)


def _target(into: Path, name: str) -> Path:
    """Where a file goes; a name never leads out of the folder, whatever a service says."""
    target = into / (Path(name.replace("\\", "/")).name or "file") if into.is_dir() else into
    if target.exists():
        raise FileExistsError(f"{target} is there already; name another file")
    return target


def _created(file: Path) -> BinaryIO:
    return os.fdopen(os.open(file, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb")


class _Described(NamedTuple):
    """What there is to know of an attachment to fetch it."""

    attachment_id: str
    name: str
    bytes: int
    sha256: str


class _Source:
    """What is to be sent."""

    def __init__(self, file: str | Path | bytes) -> None:
        self._bytes = file if isinstance(file, bytes) else None
        self._path = None if isinstance(file, bytes) else Path(file)
        self.name = "file" if self._path is None else self._path.name

    def measure(self) -> tuple[int, bytes]:
        """Its size and its SHA-256."""
        if self._path is None:
            assert self._bytes is not None
            return len(self._bytes), hashlib.sha256(self._bytes).digest()
        with self._path.open("rb") as file:
            digest = hashlib.file_digest(file, "sha256").digest()
            return file.tell(), digest

    async def chunks(self, size: int, progress: Progress | None) -> AsyncGenerator[bytes]:
        sent = 0
        if self._path is None:
            assert self._bytes is not None
            for start in range(0, size, _CHUNK):
                yield self._bytes[start : start + _CHUNK]
                sent = min(start + _CHUNK, size)
                if progress is not None:
                    progress(sent, size)
            return
        file = await asyncio.to_thread(self._path.open, "rb")
        try:
            while chunk := await asyncio.to_thread(file.read, _CHUNK):
                yield chunk
                sent += len(chunk)
                if sent > size:
                    raise Unreachable(f"{self.name} has grown while it was read; send it again")
                if progress is not None:
                    progress(sent, size)
        finally:
            file.close()
