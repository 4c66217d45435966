"""A process that kills itself at a named point of a sweep or of an import. Arguments: database, work, point, id."""

from __future__ import annotations

import asyncio
import os
import signal
import sys
from collections.abc import Awaitable, Callable
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID

from nestrel.core.commands import Post
from nestrel.store.database import Database
from nestrel.store.keep import archive, records, sweep
from nestrel.store.write import apply, facts
from nestrel.store.write.writer import Writer

SWEEP = {
    "claimed": (records, "read"),
    "read": (archive, "append"),
    "kept": (sweep, "take_away"),
    "taken away": (sweep, "record"),
    "committed": (None, ""),
}
"""Each point of a sweep's step, by what comes next; the last one is behind the commit of a step that has a next."""
DISCARD = {"claimed": (sweep, "record_discard"), "kept": (sweep, "take_away"), "taken away": (sweep, "record")}
IMPORT = {
    "locked": (facts, "read"),
    "decided": (apply, "apply"),
    "written": (apply, "move"),
    "committed": (None, ""),
}
POINTS: dict[str, dict[str, tuple[Any, str]]] = {"archive": SWEEP, "discard": DISCARD, "import": IMPORT}

LINES = 1_200


def die(*_: object) -> Awaitable[Any]:
    os.kill(os.getpid(), signal.SIGKILL)
    raise AssertionError("killed")


def second(call: Callable[..., Awaitable[Any]]) -> Callable[..., Awaitable[Any]]:
    """Let the first transaction through, so that there is something before the one that dies."""
    times = 0

    def run(*args: Any, **options: Any) -> Awaitable[Any]:
        nonlocal times
        times += 1
        return call(*args, **options) if times == 1 else die()

    return run


def posts(place: UUID) -> list[Post]:
    """What the import brings: always the same."""
    start = datetime(2026, 3, 1, tzinfo=UTC)
    return [
        Post(
            place, "odd", f"line {n}", key=f"{n}", service=True, created_at=start + timedelta(minutes=n), imported=True
        )
        for n in range(LINES)
    ]


async def bring(database: Database, place: UUID, on_batch: Callable[[int], None] = lambda _: None) -> list[int]:
    """Import all of it; the numbers that it has."""
    writer, every = Writer(database, on_batch=on_batch), posts(place)
    answers = await asyncio.gather(*(writer.submit(every[n : n + 500]) for n in range(0, LINES, 500)))
    return [one.object["seq"] for answer in answers for one in answer]


async def main(url: str, work: str, point: str, place: str) -> None:
    module, name = POINTS[work][point]
    if module is not None:
        setattr(module, name, second(getattr(module, name)))
    database = Database(url)
    if work == "import":

        def committed(_: int) -> None:
            if module is None:
                die()

        await bring(database, UUID(place), committed)
    else:
        await sweep.step(database)
        await sweep.step(database)
        die()


if __name__ == "__main__":
    asyncio.run(main(*sys.argv[1:]))
