"""Objects in a folder, one file for each; the first two digits of its name are the folder below."""

from __future__ import annotations

import contextlib
import os
from collections.abc import AsyncIterator, Callable, Sequence
from functools import partial
from pathlib import Path
from typing import BinaryIO
from uuid import UUID

from nestrel.files.objects import CHUNK, FilesUnavailable, append, on_disk


class FolderSpool:
    """A file that grows under its own name: nobody looks for that before it is kept."""

    def __init__(self, path: Path, file: BinaryIO) -> None:
        self.path = path
        self.file = file

    async def write(self, parts: Sequence[bytes], *taken: Callable[[bytes], object]) -> None:
        await on_disk(lambda: append(self.file, parts, taken))

    async def keep(self) -> None:
        def sync() -> None:
            os.fsync(self.file.fileno())
            self.file.close()
            _sync(self.path.parent)

        await on_disk(sync)

    async def discard(self) -> None:
        await on_disk(self._discard)

    def _discard(self) -> None:
        self.file.close()
        self.path.unlink(missing_ok=True)


class Folder:
    """It may be shared by several machines, if what shares it keeps what it says when a file and its folder are
    synced."""

    def __init__(self, root: Path) -> None:
        self._root = root

    def _path(self, name: UUID) -> Path:
        return self._root / name.hex[:2] / name.hex

    async def spool(self, name: UUID) -> FolderSpool:
        path = self._path(name)

        def begin() -> BinaryIO:
            with contextlib.suppress(FileNotFoundError):
                return path.open("x+b")
            for folder in (self._root, path.parent):
                if not folder.exists():
                    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
                    _sync(folder.parent)
            return path.open("x+b")

        return FolderSpool(path, await on_disk(begin))

    async def size(self, name: UUID) -> int:
        return await on_disk(lambda: self._path(name).stat().st_size)

    async def read(self, name: UUID, start: int, end: int) -> AsyncIterator[bytes]:
        file = await on_disk(lambda: self._path(name).open("rb"))
        try:
            await on_disk(lambda: file.seek(start))
            while start < end:
                size = min(CHUNK, end - start)
                data = await on_disk(partial(file.read, size))
                if len(data) < size:
                    raise FilesUnavailable(f"the file {name.hex} is shorter than it was")
                start += size
                yield data
        finally:
            file.close()

    async def local(self, name: UUID) -> BinaryIO:
        return await on_disk(lambda: self._path(name).open("rb"))

    async def delete(self, names: Sequence[UUID]) -> None:
        def unlink() -> None:
            for name in names:
                self._path(name).unlink(missing_ok=True)

        await on_disk(unlink)


def _sync(folder: Path) -> None:
    """Make the names in a folder durable."""
    descriptor = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
