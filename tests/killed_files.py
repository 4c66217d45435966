"""A process that kills itself at a named point of an upload, a post, a removal or a collection of files.
Arguments: database, folder, point, conversation."""

from __future__ import annotations

import asyncio
import sys
from collections.abc import AsyncIterator
from io import BytesIO
from pathlib import Path
from typing import Any
from uuid import UUID

from PIL import Image

from nestrel.core.callers import Caller
from nestrel.core.commands import Post, Remove
from nestrel.core.problems import Problem
from nestrel.core.rights import Action
from nestrel.files.folder import Folder, FolderSpool
from nestrel.service.attachments import Asking, Attachments, Sent
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.keep import collecting
from nestrel.store.read import attachments as reading
from nestrel.store.write import uploads
from nestrel.store.write.writer import Writer
from tests.killed import die

POINTS: dict[str, tuple[Any, str]] = {
    "announced": (Folder, "spool"),
    "written": (FolderSpool, "keep"),
    "kept": (uploads, "finish"),
    "finished": (Writer, "submit"),
    "posted": (Attachments, "preview"),
    "painted": (collecting, "add_preview"),
    "shown": (Writer, "submit"),
    "removed": (collecting, "loosen"),
    "loosened": (collecting, "take"),
    "taken": (Folder, "delete"),
    "deleted": (collecting, "forget"),
}
_SECOND = ("shown",)
"""Where the first call goes through, and the second one dies."""


def picture() -> bytes:
    out = BytesIO()
    Image.new("RGB", (400, 300), (20, 90, 120)).save(out, "PNG")
    return out.getvalue() + bytes(600_000)


async def _chunks(content: bytes) -> AsyncIterator[bytes]:
    for start in range(0, len(content), 60_000):
        yield content[start : start + 60_000]


async def all_of_it(database: Database, files: Attachments, place: UUID) -> None:
    """Upload, post, look, remove, collect."""
    writer, mara = Writer(database), Caller("mara")
    async with database.read() as connection:
        access = await see(connection, place, mara, Action.SEE)
    sent = Sent("mara", "berth.png", 0, {})
    try:
        kept, _ = await files.take(access, mara, sent, _chunks(picture()))
    except Problem as problem:
        raise AssertionError(problem.detail) from problem
    [posted] = await writer.submit([Post(place, "mara", "", attachments=(kept.id,))])
    async with database.read() as connection:
        shown = await reading.show(connection, await see(connection, place, mara, Action.SEE), mara, kept.id)
    await files.preview(shown, place, 320, Asking("mara"))
    await writer.submit([Remove(place, "mara", posted.object["seq"])])
    await files.collect()


async def main(url: str, folder: str, point: str, place: str) -> None:
    owner, name = POINTS[point]
    whole = getattr(owner, name)
    calls = 0

    def dying(*args: Any, **options: Any) -> Any:
        nonlocal calls
        calls += 1
        return whole(*args, **options) if point in _SECOND and calls == 1 else die()

    setattr(owner, name, dying)
    database = Database(url)
    await all_of_it(database, Attachments(database, Folder(Path(folder))), UUID(place))


if __name__ == "__main__":
    asyncio.run(main(*sys.argv[1:]))
