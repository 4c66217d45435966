"""Upgrades without a pause: two versions serve side by side, and no revision holds others up."""

from __future__ import annotations

import asyncio
import io
import os
import subprocess
import sys
import tarfile
from collections.abc import Callable
from pathlib import Path

import asyncpg
import pytest

from nestrel.store import addresses, schema
from nestrel.store.schema import Step
from tests.support import Person, Served, once, unique

pytestmark = pytest.mark.whole

_HERE = Path(__file__).resolve().parents[1]
_MIGRATIONS = "src/nestrel/store/migrations/versions"

off = asyncio.to_thread

_TABLES = """
SELECT format('%I.%I', n.nspname, c.relname) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = 'nestrel' AND c.relkind IN ('r', 'p')
"""
_WAITS = """
SELECT count(*) FROM pg_locks l JOIN pg_class c ON c.oid = l.relation JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE NOT l.granted AND n.nspname = 'nestrel'
"""


def _git(*words: str) -> bytes:
    done = subprocess.run(["git", *words], cwd=_HERE, capture_output=True)
    assert done.returncode == 0, f"this needs a clone with its history: {done.stderr.decode()}"
    return done.stdout


@pytest.fixture(scope="module")
def before(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The code of the commit before that in which the newest revision came."""
    brought = (
        _git("log", "--diff-filter=A", "--format=%H", "-1", "--", f"{_MIGRATIONS}/{schema.newest()}_*.py")
        .decode()
        .strip()
    )
    assert brought, "the newest revision is not committed"
    packed = _git("archive", f"{brought}^", "src/nestrel")
    folder = tmp_path_factory.mktemp("before")
    with tarfile.open(fileobj=io.BytesIO(packed)) as file:
        file.extractall(folder, filter="data")
    return folder / "src"


def _upgrade(url: str, *words: str, code: Path | None = None) -> str:
    env = {**os.environ, "NESTREL_DATABASE_URL": url, **({"PYTHONPATH": str(code)} if code else {})}
    command = [sys.executable, "-m", "nestrel.cli", "db", "upgrade", *words]
    done = subprocess.run(command, env=env, capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return done.stdout


class Load:
    """Members who post at one version and follow at the other, without an end."""

    def __init__(self, place: str) -> None:
        self.place = place
        self.taken: list[str] = []
        self.refused: list[str] = []

    async def post(self, person: Person) -> None:
        while True:
            body = f"{person.user} {len(self.taken)}"
            answer = await person.post(self.place, body, key=body)
            if answer.status_code in (200, 201):  # one that was cut off may have been taken
                self.taken.append(body)
            else:
                self.refused.append(f"{answer.status_code} {answer.text}")
            await asyncio.sleep(0)

    async def grows(self, by: int = 30) -> None:
        """Wait until so many more posts were taken."""
        aim = len(self.taken) + by

        async def count() -> int:
            return len(self.taken)

        await once(count, lambda n: n >= aim)


@pytest.mark.parametrize("order", ["the new one comes", "the new one comes, and goes again"])
async def test_two_versions_serve_side_by_side(before: Path, make_empty: Callable[[], str], order: str) -> None:
    url = make_empty()
    await off(_upgrade, url, code=before)
    with Served(url, anew=True, PYTHONPATH=str(before)) as old:
        await off(old.wait_ready)
        mara, odd = Person(old.url, unique("mara")), Person(old.url, unique("odd"))
        load = Load((await mara.make(members=[odd.user]))["id"])
        posting = [asyncio.create_task(load.post(mara))]
        await load.grows()
        await off(_upgrade, url, "--before")  # while the version of before serves
        await load.grows()
        with Served(url) as new:
            await off(new.wait_ready)
            ines = Person(new.url, odd.user)
            posting.append(asyncio.create_task(load.post(ines)))
            async with ines.socket() as wire:  # who follows at the new version hears what is posted at the old one
                await wire.command(type="follow", conversation_id=load.place)
                heard = {message["body"] for message in await wire.messages(60)}
                assert {body.split()[0] for body in heard} == {mara.user, odd.user}
            await load.grows()
            gone, left = (old, ines) if order == "the new one comes" else (new, mara)
            for task in posting:
                task.cancel()
            await asyncio.gather(*posting, return_exceptions=True)
            await off(gone.stop)
            rest = asyncio.create_task(load.post(left))
            await load.grows()
            if gone is old:
                await off(_upgrade, url)
                await load.grows()
            rest.cancel()
            await asyncio.gather(rest, return_exceptions=True)
            assert load.refused == []
            await _check(left, load)


async def _check(person: Person, load: Load) -> None:
    """Every post stands once, in one order without a gap."""
    found: list[dict[str, object]] = []
    while not found or found[-1]["seq"] != (await person.page(load.place, limit=1))["head"]:
        after = found[-1]["seq"] if found else 0
        found += (await person.page(load.place, order="asc", after=after, limit=200))["items"]
    assert [one["seq"] for one in found] == list(range(1, len(found) + 1))
    bodies = [one["body"] for one in found]
    assert len(set(bodies)) == len(bodies)
    assert set(load.taken) <= set(bodies)


async def test_a_revision_waits_but_a_moment_for_a_lock_and_comes_again(
    before: Path, make_empty: Callable[[], str]
) -> None:
    """Whoever reads for long would have it wait for them, and everybody else behind it."""
    url = make_empty()
    await off(_upgrade, url, code=before)
    reader = await asyncpg.connect(addresses.driver(url))
    other = await asyncpg.connect(addresses.driver(url))
    try:
        async with reader.transaction():
            tables = ", ".join(row[0] for row in await reader.fetch(_TABLES))  # whichever the revision changes
            await reader.execute(f"LOCK TABLE {tables} IN ACCESS SHARE MODE")
            upgrading = asyncio.create_task(off(_upgrade, url))
            await once(lambda: other.fetchval(_WAITS), lambda n: n > 0)
            # Others get through while the reader still reads: what waited lets go.
            async with other.transaction():
                await other.execute(f"LOCK TABLE {tables} IN ACCESS SHARE MODE", timeout=60)
            assert not upgrading.done()
        assert schema.newest() in await upgrading
    finally:
        await reader.close()
        await other.close()


@pytest.mark.parametrize(
    ("steps", "needed"),
    [
        ([("0001", False), ("0002", False)], "0002"),
        ([("0001", False), ("0002", False), ("0003", True)], "0002"),
        ([("0001", False), ("0002", True), ("0003", True)], "0001"),
        ([("0001", False), ("0002", True), ("0003", False), ("0004", True)], "0003"),
    ],
)
def test_what_comes_after_is_not_needed_until_something_builds_on_it(
    steps: list[tuple[str, bool]], needed: str
) -> None:
    assert schema.needed_of([Step(*step) for step in steps]) == needed


async def test_before_stops_where_the_version_of_before_still_serves(
    make_empty: Callable[[], str], monkeypatch: pytest.MonkeyPatch
) -> None:
    steps = schema._steps()
    monkeypatch.setattr(schema, "_steps", lambda: [*steps[:-1], Step(steps[-1].revision, after=True)])
    url = make_empty()
    assert (await schema.upgrade(url, before=True))[1] == steps[-2].revision
    assert schema.serves(steps[-2].revision)
    assert await schema.upgrade(url) == (steps[-2].revision, steps[-1].revision)
