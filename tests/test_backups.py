"""A base backup and the WAL since: the database as it was at a point in time, and what clients are told then."""

from __future__ import annotations

import asyncio
import os
import shutil
import tempfile
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import pytest
import pytest_asyncio

from nestrel.client import AsyncClient, SyncedReplica
from nestrel.client.replica.sync import ReplicaState
from nestrel.local.postgres import LocalPostgres
from nestrel.store import schema
from tests.support import PATIENCE, Person, Served, token, unique, until

pytestmark = pytest.mark.whole

off = asyncio.to_thread


class Archived:
    """A PostgreSQL that hands on its WAL, as `archive_command` does, and a second one that is made of a backup."""

    def __init__(self, folder: Path) -> None:
        self.wal = self._own(folder / "wal")
        self.base = self._own(folder / "base")
        self.first = LocalPostgres(folder / "first", durable=False, archive_mode="on")
        self.first.start()
        self.first.query(f"ALTER SYSTEM SET archive_command = 'cp %p {self.wal}/%f'")
        self.first.query("SELECT pg_reload_conf()")
        self.first.create_database("nestrel")
        self.second = LocalPostgres(folder / "second", durable=False)

    @staticmethod
    def _own(path: Path) -> Path:
        path.mkdir(mode=0o700)
        if os.geteuid() == 0:
            shutil.chown(path, "postgres", "postgres")
        return path

    def back_up(self) -> None:
        self.first._run("pg_basebackup", "-D", str(self.base), "-d", self.first.url("postgres"), "-c", "fast")

    def mark(self, name: str) -> None:
        """A point in time, with a name of its own."""
        self.first.query(f"SELECT pg_create_restore_point('{name}')")

    def hand_on(self) -> None:
        """Wait until the archive has everything up to now."""
        name = self.first.query("SELECT pg_walfile_name(pg_switch_wal())")
        until(lambda: (self.wal / name).exists())

    def restore(self, name: str) -> None:
        """Start a server on the backup, which takes from the archive what came until then, and goes on from there."""
        second = self.second
        second.folder.mkdir(parents=True)
        shutil.copy(self.first.folder / "password", second.folder / "password")
        self._own(second.folder / "log")
        self.base.rename(second.data)
        settings = (
            f"restore_command = 'cp {self.wal}/%f %p'", f"recovery_target_name = '{name}'",
            "recovery_target_action = 'promote'",
        )  # fmt: skip
        with (second.data / "postgresql.auto.conf").open("a") as file:
            file.write("\n".join(settings) + "\narchive_command = '/bin/true'\n")
        signal = second.data / "recovery.signal"
        signal.touch()
        if os.geteuid() == 0:
            shutil.chown(signal, "postgres", "postgres")
        second.start()
        until(lambda: second.query("SELECT pg_is_in_recovery()") == "f")

    def stop(self) -> None:
        for server in (self.first, self.second):
            server.stop("immediate")


@pytest_asyncio.fixture
async def archived() -> AsyncIterator[Archived]:
    with tempfile.TemporaryDirectory(prefix="nestrel-backups-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        made = await off(Archived, Path(folder))
        try:
            await schema.upgrade(made.first.url("nestrel"))
            yield made
        finally:
            await off(made.stop)


async def test_a_point_in_time_comes_back_and_nobody_goes_on_from_what_was_after_it(
    archived: Archived, tmp_path: Path
) -> None:
    user = unique("mara")
    with Served(archived.first.url("nestrel")) as served:
        await off(served.wait_ready)
        mara = Person(served.url, user)
        place, untouched = (await mara.make())["id"], (await mara.make())["id"]
        await mara.post(untouched, "said before the backup")
        await off(archived.back_up)
        await mara.fill(place, 5, "after the backup ")
        early = await _cursors(mara, place)
        async with _replica(served.url, user, tmp_path / "early.db") as replica:
            await _live(replica)
        await off(archived.mark, "before the mistake")
        await mara.fill(place, 5, "after the point ")
        lost = await _cursors(mara, place)
        async with _replica(served.url, user, tmp_path / "late.db") as replica:
            await _live(replica)
        await off(archived.hand_on)
        port = served.port
    await off(archived.first.stop)
    await off(archived.restore, "before the mistake")

    # Nobody marks anything: the server has begun a timeline of its own, which the service sees.
    with Served(archived.second.url("nestrel"), port=port) as served:
        await off(served.wait_ready)
        mara = Person(served.url, user)
        # Numbers are given out anew, for other messages.
        await mara.fill(place, 2, "in the new history ")
        page = await mara.page(place, order="asc")
        bodies = [f"after the backup {n}" for n in range(1, 6)] + ["in the new history 1", "in the new history 2"]
        assert [one["body"] for one in page["items"]] == bodies

        changes = await _changes(mara, place, early["one"])
        assert (changes["reset"], len(changes["messages"])) == (False, 2)
        answer = (await mara.http.post("/resync", json={"cursor": early["all"]})).json()
        assert (answer["reset"], [one["conversation_id"] for one in answer["items"]]) == (False, [place])
        assert (await _changes(mara, place, lost["one"]))["reset"]
        assert (await mara.http.post("/resync", json={"cursor": lost["all"]})).json()["reset"]

        for name in ("early", "late"):
            async with _replica(served.url, user, tmp_path / f"{name}.db") as replica:
                await _live(replica)
                async with asyncio.timeout(PATIENCE):
                    await replica.until(lambda one: [m.body for m in one.messages(place, limit=50)][-7:] == bodies)
                assert [m.body for m in replica.messages(untouched, limit=50)] == ["said before the backup"]


@asynccontextmanager
async def _replica(url: str, user: str, path: Path) -> AsyncIterator[SyncedReplica]:
    """A member's replica in a file, current while the block runs."""
    async with AsyncClient(url, lambda: token(user)) as client, client.replica(path) as replica:
        yield replica


async def _live(replica: SyncedReplica) -> None:
    async with asyncio.timeout(PATIENCE):
        await replica.until(lambda one: one.state.state is ReplicaState.LIVE)


async def _cursors(person: Person, place: str) -> dict[str, str]:
    listed = (await person.http.get("/conversations")).json()
    return {"all": listed["cursor"], "one": (await person.page(place))["change_cursor"]}


async def _changes(person: Person, place: str, cursor: str) -> dict[str, Any]:
    answer = await person.http.get(f"/conversations/{place}/changes", params={"cursor": cursor})
    assert answer.status_code == 200, answer.text
    found: dict[str, Any] = answer.json()
    return found
