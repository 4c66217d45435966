"""Storage of bytes under names. A name is a random UUID. It is written once and never used again."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Callable, Sequence
from typing import BinaryIO, Protocol, TypeVar
from uuid import UUID

CHUNK = 256 * 1024
"""Bytes that are read or written at one time."""


class FilesUnavailable(Exception):
    """The bytes cannot be written or read now; the text says why, for the log."""


T = TypeVar("T")


async def on_disk(work: Callable[[], T]) -> T:
    """Do something that may wait for a disk, on a thread. Raises `FilesUnavailable` for what goes wrong."""
    try:
        return await asyncio.to_thread(work)
    except (OSError, ValueError) as error:  # a closed file is a ValueError
        raise FilesUnavailable(str(error)) from error


def append(file: BinaryIO, parts: Sequence[bytes], taken: Sequence[Callable[[bytes], object]]) -> None:
    """Write bytes through to the system, and give them to others."""
    data = b"".join(parts)
    file.write(data)
    file.flush()
    for take in taken:
        take(data)


class Spool(Protocol):
    """Bytes that are coming in, on a disk of this machine."""

    file: BinaryIO
    """Open for reading and writing."""

    async def write(self, parts: Sequence[bytes], *taken: Callable[[bytes], object]) -> None:
        """Add bytes, and give them to others too, on the same thread. Raises `FilesUnavailable` when the disk does not
        take them."""

    async def keep(self) -> None:
        """Make it durable: when this returns, the object is there, and outlasts a crash."""

    async def discard(self) -> None:
        """Nothing of it is wanted."""


class Files(Protocol):
    """All of them raise `FilesUnavailable`."""

    async def spool(self, name: UUID) -> Spool:
        """Begin an object."""

    async def size(self, name: UUID) -> int:
        """The bytes of an object."""

    def read(self, name: UUID, start: int, end: int) -> AsyncIterator[bytes]:
        """The bytes of an object from `start` up to `end`, which is not among them."""

    async def local(self, name: UUID) -> BinaryIO:
        """An object as an open file of this machine, for who closes it."""

    async def delete(self, names: Sequence[UUID]) -> None:
        """Delete objects; one that is not there is deleted already."""
