"""What somebody wrote and what is kept about them as a ZIP, written while it is read: nothing of it is held whole."""

from __future__ import annotations

import zipfile
from collections.abc import AsyncIterator

import structlog

from nestrel.core.problems import StoreUnavailable
from nestrel.service.attachments import Asking
from nestrel.service.state import Service
from nestrel.store.keep import personal

log = structlog.get_logger()

_PART = 64 * 1024


class _Pipe:
    """What a ZIP is written to: its bytes are taken from here as they come. It cannot go back, so that sizes and sums
    stand behind each file."""

    def __init__(self) -> None:
        self._parts: list[bytes] = []

    def write(self, data: bytes) -> int:
        self._parts.append(bytes(data))
        return len(data)

    def flush(self) -> None:
        """Nothing waits."""

    def close(self) -> None:
        """Nothing is open."""

    def take(self) -> bytes:
        parts, self._parts = self._parts, []
        return b"".join(parts)


async def pack(service: Service, user_id: str, reader: object) -> AsyncIterator[bytes]:
    """The archive, in parts. Each `*.jsonl` has one object a line; `files/` has what they uploaded, by id."""
    pipe = _Pipe()
    async with service.exports.turn(reader) as running, service.database.snapshot(patient=True) as connection:
        with zipfile.ZipFile(pipe, "w", zipfile.ZIP_DEFLATED) as packed:
            for name in ("messages", *personal.names()):
                lines = (
                    personal.messages(connection, user_id)
                    if name == "messages"
                    else personal.table(connection, user_id, name)
                )
                with packed.open(f"{name}.jsonl", "w", force_zip64=True) as entry:
                    async for chunk in lines:
                        entry.write(chunk)
                        running.moved()
                        if part := pipe.take():
                            yield part
            async for file in personal.files(connection, user_id):
                with packed.open(zipfile.ZipInfo(f"files/{file.id}"), "w", force_zip64=True) as entry:
                    async for chunk in _bytes(service, file):
                        entry.write(chunk)
                        running.moved()
                        yield pipe.take()
        yield pipe.take()


async def _bytes(service: Service, file: personal.File) -> AsyncIterator[bytes]:
    """A file's bytes; of one that was taken away meanwhile there are none."""
    try:
        async with service.attachments.open(file.object_id, 0, file.size, Asking("an export", service=True)) as parts:
            async for part in parts:
                yield part
    except (StoreUnavailable, FileNotFoundError, KeyError) as error:
        log.warning("export.file_not_read", attachment=str(file.id), reason=str(error))
