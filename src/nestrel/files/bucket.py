"""Objects in a store that speaks the S3 protocol."""

from __future__ import annotations

import tempfile
from collections.abc import AsyncIterator, Callable, Sequence
from datetime import timedelta
from typing import TYPE_CHECKING, BinaryIO, cast
from uuid import UUID

import obstore
from obstore.exceptions import BaseError
from obstore.store import S3Store

from nestrel.files.objects import FilesUnavailable, append, on_disk

if TYPE_CHECKING:
    from obstore.store import ClientConfig

_PART = 8 * 1024 * 1024
"""Bytes of one part of an upload."""
_AT_ONCE = 2
"""Parts that go at one time."""
_TIMEOUT = timedelta(seconds=60)


class BucketSpool:
    """A file without a name on this machine's disk, which nobody has to clear away."""

    def __init__(self, store: S3Store, name: UUID) -> None:
        self._store = store
        self._name = name
        self.file = cast("BinaryIO", tempfile.TemporaryFile(prefix="nestrel-"))  # noqa: SIM115 - it outlives this call

    async def write(self, parts: Sequence[bytes], *taken: Callable[[bytes], object]) -> None:
        await on_disk(lambda: append(self.file, parts, taken))

    async def keep(self) -> None:
        try:
            self.file.seek(0)
            await obstore.put_async(self._store, self._name.hex, self.file, chunk_size=_PART, max_concurrency=_AT_ONCE)
        except (BaseError, OSError) as error:
            raise FilesUnavailable(str(error)) from error
        finally:
            self.file.close()

    async def discard(self) -> None:
        self.file.close()


class Bucket:
    """A bucket, or what is below a prefix of it. Who may use it the environment says, by the usual names
    (`AWS_ACCESS_KEY_ID`, `AWS_SECRET_ACCESS_KEY`, `AWS_REGION`), or the machine's own role."""

    def __init__(self, bucket: str, prefix: str, endpoint: str | None) -> None:
        options: ClientConfig = {
            "timeout": _TIMEOUT,
            "allow_http": endpoint is not None and endpoint.startswith("http://"),
        }
        self._store = S3Store(
            bucket,
            prefix=prefix or None,
            endpoint=endpoint,
            virtual_hosted_style_request=False,
            client_options=options,
            retry_config={"max_retries": 3, "retry_timeout": _TIMEOUT},
        )

    async def spool(self, name: UUID) -> BucketSpool:
        return await on_disk(lambda: BucketSpool(self._store, name))

    async def size(self, name: UUID) -> int:
        try:
            return (await obstore.head_async(self._store, name.hex))["size"]
        except (BaseError, FileNotFoundError) as error:
            raise FilesUnavailable(str(error)) from error

    async def read(self, name: UUID, start: int, end: int) -> AsyncIterator[bytes]:
        if start == end:
            return
        try:
            found = await obstore.get_async(self._store, name.hex, options={"range": (start, end)})
            async for part in found.stream():
                yield bytes(part)
        except (BaseError, FileNotFoundError) as error:
            raise FilesUnavailable(str(error)) from error

    async def local(self, name: UUID) -> BinaryIO:
        spool = await self.spool(name)
        try:
            async for part in self.read(name, 0, await self.size(name)):
                await spool.write([part])
        except BaseException:
            await spool.discard()
            raise
        return spool.file

    async def delete(self, names: Sequence[UUID]) -> None:
        try:
            await obstore.delete_async(self._store, [name.hex for name in names])
        except (BaseError, FileNotFoundError) as error:
            raise FilesUnavailable(str(error)) from error
