"""A sweep and an import whose process dies at each named point: every message is in exactly one place."""

from __future__ import annotations

import asyncio
import signal
import subprocess
import sys
from collections.abc import Callable
from uuid import UUID

import pytest

from nestrel.core.commands import Post
from nestrel.core.retention import Rule, Then
from nestrel.store.database import Database
from nestrel.store.keep import retention, sweep
from nestrel.store.native import fetch
from nestrel.store.write.writer import Writer
from tests import killed
from tests.support import PATIENCE, make_place
from tests.test_retention import check_whole, counters, sweep_all

pytestmark = pytest.mark.whole


@pytest.mark.parametrize(
    ("work", "point"), [(work, point) for work in ("archive", "discard") for point in killed.POINTS[work]]
)
async def test_a_sweep_killed_at_any_point_loses_nothing_and_keeps_nothing_twice(
    make_database: Callable[[], str], work: str, point: str
) -> None:
    """Archive and removal are one transaction: whoever dies, each message is in exactly one place."""
    url = make_database()
    database = Database(url)
    try:
        place = await make_place(database, mara="owner")
        writer = Writer(database)
        for _ in range(7):
            await writer.submit([Post(place, "mara", "x") for _ in range(500)])
        await retention.put(database, place, Rule(keep_last=100, then=Then(work)), confirmed=True)
        assert await asyncio.to_thread(run_killed, url, work, point, place) == -signal.SIGKILL
        async with database.read() as connection:
            rows = [row[0] for row in await fetch(connection, "SELECT seq FROM nestrel.messages")]
        assert len(rows) == (3_500 - 2 * sweep.STEP if point == "committed" else 3_500 - sweep.STEP)
        await check_whole(database, place, rows, 3_500)
        async with asyncio.timeout(PATIENCE):  # the database takes a moment to see that the other has gone
            while (await left(database)).messages:
                await sweep_all(database)
        await check_whole(database, place, list(range(3_401, 3_501)), 3_500)
    finally:
        await database.close()


@pytest.mark.parametrize("point", killed.IMPORT)
async def test_an_import_killed_at_any_point_is_whole_after_a_second_run(
    make_database: Callable[[], str], point: str
) -> None:
    url = make_database()
    database = Database(url)
    try:
        place = await make_place(database, mara="owner")
        assert await asyncio.to_thread(run_killed, url, "import", point, place) == -signal.SIGKILL
        assert 0 < (await counters(database, place))[2] < killed.LINES
        assert await killed.bring(database, place) == list(range(1, killed.LINES + 1))
        async with database.read() as connection:
            bodies = await fetch(connection, "SELECT body FROM nestrel.messages ORDER BY conversation_id, seq")
        assert [row[0] for row in bodies] == [f"line {n}" for n in range(killed.LINES)]
    finally:
        await database.close()


def run_killed(url: str, work: str, point: str, place: UUID) -> int:
    return subprocess.run([sys.executable, "-m", "tests.killed", url, work, point, str(place)], check=False).returncode


async def left(database: Database) -> sweep.Backlog:
    async with database.read() as connection:
        return await sweep.backlog(connection)
