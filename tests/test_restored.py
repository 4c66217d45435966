"""A database that is restored, or fails over: nobody goes on from what is lost, and nobody is reset without need."""

from __future__ import annotations

import asyncio
import os
import random
import shutil
import tempfile
from collections.abc import AsyncIterator, Iterator
from contextlib import AsyncExitStack, asynccontextmanager
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pytest

from nestrel.client import AsyncClient, SyncedReplica
from nestrel.client.replica.sync import ReplicaState
from nestrel.core.problems import StoreUnavailable
from nestrel.local.postgres import LocalPostgres
from nestrel.store import epochs, schema
from nestrel.store.database import Database
from nestrel.store.native import execute, fetch
from tests.forked import nestrel
from tests.receiver import Receiver, receiver
from tests.soak import Proxy
from tests.support import PATIENCE, Person, Served, token, until

pytestmark = pytest.mark.whole

off = asyncio.to_thread
"""The proxy runs in the tests' own loop: what waits for a server is done beside it."""


class Cluster:
    """Two places for a PostgreSQL, and one port that leads to whichever is the primary."""

    def __init__(self, folder: Path) -> None:
        self.primary = LocalPostgres(folder / "first", durable=False)
        self.other = LocalPostgres(folder / "second", durable=False)
        self.primary.start()
        self.primary.create_database("nestrel")
        self.proxy = Proxy([self.primary.port], random.Random(1))

    def url(self, database: str = "nestrel") -> str:
        direct = urlsplit(self.primary.url(database))
        return direct._replace(netloc=direct.netloc.replace(str(self.primary.port), str(self.proxy.port))).geturl()

    def copy(self) -> None:
        """A base backup of the primary, as a standby of it."""
        first, second = self.primary, self.other
        second.folder.mkdir(parents=True)
        shutil.copy(first.folder / "password", second.folder / "password")
        for own in (second.data, second.folder / "log"):
            own.mkdir(mode=0o700)
            if os.geteuid() == 0:
                shutil.chown(own, "postgres", "postgres")
        first._run("pg_basebackup", "-D", str(second.data), "-d", first.url("postgres"), "-R", "-X", "stream",
                   "-c", "fast")  # fmt: skip

    def standby(self) -> None:
        """Start the copy, which follows the primary, and wait until it has all of it."""
        self.other.start()
        self.wait_for_standby()

    def wait_for_standby(self) -> None:
        at = self.primary.query("SELECT pg_current_wal_insert_lsn()")
        until(lambda: self.other.query(f"SELECT pg_last_wal_replay_lsn() >= '{at}'") == "t")

    def switch(self) -> None:
        """Make the copy the primary."""
        if self.other.query("SELECT pg_is_in_recovery()") == "t":
            self.other._run("pg_ctl", "promote", "-w", "-D", str(self.other.data))
        self.point_at(self.other)

    def point_at(self, server: LocalPostgres) -> None:
        self.proxy._ports[:] = [server.port]
        self.proxy.cut()

    def stop(self) -> None:
        for server in (self.primary, self.other):
            server.stop("immediate")


@pytest.fixture
def cluster() -> Iterator[Cluster]:
    with tempfile.TemporaryDirectory(prefix="nestrel-restored-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        made = Cluster(Path(folder))
        try:
            yield made
        finally:
            made.stop()


def mark(url: str) -> None:
    """`nestrel db restored`, as an operator runs it."""
    env = {**os.environ, "NESTREL_DATABASE_URL": url}
    nestrel("db", "restored", env=env, seconds=PATIENCE).check_returncode()


class Here:
    """A service on the cluster, with a member's room of five messages and the cursors of that moment."""

    def __init__(self, served: Served, mara: Person, odd: Person) -> None:
        self.served, self.mara, self.odd = served, mara, odd
        self.place = ""
        self.cursors: dict[str, str] = {}

    async def begin(self) -> None:
        self.place = (await self.mara.make(members=[self.odd.user]))["id"]
        await self.mara.fill(self.place, 5, "before ")
        self.cursors = await self.held()

    async def held(self) -> dict[str, str]:
        """What a client holds that is up to date: an all cursor, and one of the room."""
        listed = (await self.mara.http.get("/conversations")).json()
        return {"all": listed["cursor"], "one": (await self.mara.page(self.place))["change_cursor"]}

    async def resync(self, cursor: str) -> dict[str, Any]:
        return await self._ask("POST", "/resync", json={"cursor": cursor})

    async def changes(self, cursor: str) -> dict[str, Any]:
        return await self._ask("GET", f"/conversations/{self.place}/changes", params={"cursor": cursor})

    async def _ask(self, method: str, path: str, **what: Any) -> dict[str, Any]:
        """Ask, as a client does that comes back after a 503."""
        await off(self.served.wait_ready)
        for _ in range(50):
            answer = await self.mara.http.request(method, path, **what)
            if answer.status_code != 503:
                assert answer.status_code == 200, answer.text
                found: dict[str, Any] = answer.json()
                return found
        raise AssertionError(answer.text)


@asynccontextmanager
async def serving(cluster: Cluster, url: str | None = None) -> AsyncIterator[Here]:
    async with cluster.proxy.open():
        await schema.upgrade(cluster.url())
        env: dict[str, Any] = {"NESTREL_CHECKPOINT_SECONDS": "0.5"}
        served = Served(url or cluster.url(), **env)
        try:
            await off(served.wait_ready)
            here = Here(served, Person(served.url, "mara"), Person(served.url, "odd"))
            await here.begin()
            yield here
        finally:
            await off(served.__exit__)


async def lost_and_found(here: Here, later: dict[str, str]) -> None:
    """After a restore to before `later`: whoever holds what is lost begins anew at every door, and what is posted now
    under the numbers that were given out before is what all have."""
    found = await here.resync(later["all"])
    assert found["reset"]
    assert [item["reset"] for item in found["items"]] == [True]
    bodies = [message["body"] for message in found["items"][0]["messages"]]
    assert bodies[:5] == [f"before {n}" for n in range(1, 6)]
    assert not any(b.startswith("lost") for b in bodies)
    assert (await here.changes(later["one"]))["reset"]
    await here.mara.fill(here.place, 3, "after ")
    page = await here.mara.page(here.place)
    assert [item["body"] for item in page["items"]][:3] == ["after 3", "after 2", "after 1"]
    again = await here.changes(later["one"])
    assert again["reset"]
    assert again["head"] == 8
    mapped = await here._ask("POST", "/resync", json={"conversations": {here.place: later["one"]}})
    assert [item["reset"] for item in mapped["items"]] == [True]
    async with here.mara.socket() as wire:
        done = await wire.command(type="follow", conversation_id=here.place, cursor=later["one"])
        assert done["rewound"]
        assert (await wire.get())["reset"]
    async with here.mara.socket() as wire:
        assert (await wire.command(type="follow_all", cursor=later["all"]))["reset"]
        assert (await wire.get())["reset"]


async def test_a_base_backup_that_is_copied_back(cluster: Cluster, tmp_path: Path) -> None:
    """Also for a process that runs on, with an open line, a cached page, and a room that does not exist any more."""
    async with serving(cluster) as here:
        await off(cluster.copy)
        (cluster.other.data / "standby.signal").unlink()
        await here.mara.fill(here.place, 40, "lost ")
        gone = (await here.mara.make())["id"]
        await here.mara.page(here.place)
        later = await here.held()
        async with (
            AsyncClient(here.served.url, token("mara")) as client,
            client.replica(tmp_path / "mara.db") as replica,
            here.odd.socket() as wire,
        ):
            await replica.live()
            assert replica.search("lost")
            assert gone in [one.id for one in replica.conversations()]
            await wire.command(type="follow", conversation_id=here.place)
            await off(cluster.primary.stop, "immediate")
            await off(cluster.other.start)
            await off(mark, cluster.other.url("nestrel"))
            cluster.point_at(cluster.other)
            await lost_and_found(here, later)
            assert (await here.mara.http.get(f"/conversations/{gone}")).status_code == 404
            while (await wire.get())["type"] != "rewound":
                pass  # a change of before, as of his first sign-in, may come as late as this
            while (frame := await wire.get())["type"] != "changes":
                pass
            assert frame["reset"]
            assert frame["head"] < 40
            await replica.until(lambda one: _holds(one, here.place, 8) and not one.search("lost"))
            assert gone not in [one.id for one in replica.conversations()]
        old = await here.changes(here.cursors["one"])
        assert not old["reset"]
        assert [message["body"] for message in old["messages"]] == [
            "after 1",
            "after 2",
            "after 3",
        ]


def _holds(replica: SyncedReplica, place: str, head: int) -> bool:
    held = {one.seq for one in replica.messages(place, limit=1000)}
    return replica.state.state is ReplicaState.LIVE and max(held, default=0) == head


async def test_an_older_copy_that_nobody_speaks_of_is_given_away_by_a_cursor_from_later(cluster: Cluster) -> None:
    async with serving(cluster) as here:
        await off(cluster.copy)
        (cluster.other.data / "standby.signal").unlink()
        await here.mara.fill(here.place, 400, "lost ")
        later = await here.held()
        await off(cluster.primary.stop, "immediate")
        await off(cluster.other.start)
        cluster.point_at(cluster.other)
        found = await here.resync(later["all"])
        assert found["reset"]
        assert found["items"][0]["head"] == 5
        assert (await here.changes(later["one"]))["reset"]


@pytest.mark.parametrize("where", ["same cluster", "another cluster"])
async def test_a_dump_is_another_history_wherever_it_is_loaded(cluster: Cluster, where: str, tmp_path: Path) -> None:
    async with serving(cluster) as here, receiver() as to:
        office = Person(here.served.url, "office", scope="nestrel.service")
        other = (await here.odd.make(members=["ines"]))["id"]
        await here.odd.fill(other, 70, "other ")
        await office.http.post("/webhooks", json={"url": to.url})
        for place in (here.place, other):
            await here.odd.http.put(f"/conversations/{place}/messages/1/reactions/like")
        await to.has(lambda it: {here.place, other} <= set(it.held))
        dump = await off(cluster.primary._run, "pg_dump", "-d", cluster.primary.url("nestrel"), "--no-owner")
        await here.odd.fill(other, 5, "lost ")
        await here.mara.fill(here.place, 40, "lost ")
        await to.has(lambda it: len(it.held[here.place].messages) == 45 and len(it.held[other].messages) == 75)
        later = await here.held()
        await off(here.served.stop)  # it would send what the dump does not have
        target = cluster.primary if where == "same cluster" else cluster.other
        await off(target.start)
        await off(target.create_database, "restored")
        script = Path(tempfile.mkdtemp(prefix="nestrel-dump-")) / "dump.sql"
        script.write_text(dump)
        script.parent.chmod(0o755)
        await off(target._run, "psql", "-qXv", "ON_ERROR_STOP=1", "-f", str(script), target.url("restored"))
        shutil.rmtree(script.parent)
        with Served(target.url("restored")) as served:
            there = Here(await off(served.wait_ready), Person(served.url, "mara"), here.odd)
            there.place = here.place
            await lost_and_found(there, later)
            # What a conversation cursor of before the dump holds is all there; and nothing looks moved for ever.
            assert not (await there.changes(here.cursors["one"]))["reset"]
            now = await there.held()
            assert (await there.resync(now["all"]))["items"] == []
            # A webhook's copy becomes what the service has, also where nobody writes any more.
            for place in (here.place, other):
                page = (await Person(served.url, "odd").page(place, limit=200, order="asc"))["items"]
                rows = [(m["seq"], m["rev"], m["body"]) for m in page]

                def same(it: Receiver, place: str = place, rows: list[Any] = rows) -> bool:
                    return [(m.seq, m.rev, m.body) for m in it.held[place].ordered()] == rows

                await to.has(same)


async def test_a_standby_that_lags_and_is_promoted_resets_only_who_holds_what_is_lost(cluster: Cluster) -> None:
    async with serving(cluster) as here:
        await off(cluster.copy)
        await off(cluster.standby)
        kept = await here.held()
        await off(cluster.wait_for_standby)
        await off(cluster.other.stop)
        await here.mara.fill(here.place, 40, "lost ")
        later = await here.held()
        await off(cluster.primary.stop, "immediate")
        await off(cluster.other.start)
        await off(cluster.switch)
        for cursors in (kept, here.cursors):
            found = await here.resync(cursors["all"])
            assert not found["reset"]
            assert found["rewound"]
            assert not (await here.changes(cursors["one"]))["reset"]
        await lost_and_found(here, later)
        found = await here.resync(kept["all"])
        assert not found["reset"]
        assert [message["seq"] for message in found["items"][0]["messages"]] == [6, 7, 8]


async def test_a_planned_switchover_resets_nobody(cluster: Cluster, tmp_path: Path) -> None:
    async with serving(cluster) as here:
        await off(cluster.copy)
        await off(cluster.standby)
        await here.mara.fill(here.place, 40, "kept ")
        later = await here.held()
        async with (
            AsyncClient(here.served.url, token("mara")) as client,
            client.replica(tmp_path / "mara.db") as replica,
        ):
            await replica.live()
            await off(cluster.wait_for_standby)
            await off(cluster.primary.stop)  # which hands all of it on before it ends
            await off(cluster.switch)
            for cursors in (here.cursors, later):
                assert not (await here.resync(cursors["all"]))["reset"]
                assert not (await here.changes(cursors["one"]))["reset"]
            await here.mara.fill(here.place, 3, "after ")
            await replica.until(lambda one: _holds(one, here.place, 48))
            assert len(replica.messages(here.place, limit=1000)) == 48
        found = await here.resync(later["all"])
        assert [message["body"] for message in found["items"][0]["messages"]] == ["after 1", "after 2", "after 3"]


async def test_a_history_that_a_process_has_seen_and_the_database_does_not_know_is_lost(
    url: str, afterwards: AsyncExitStack
) -> None:
    """A primary of before that takes its place again, or files that are put back under a running service."""
    one, other = Database(url), Database(url)
    for database in (one, other):
        afterwards.push_async_callback(database.close)
        async with database.read() as connection:
            await epochs.begin(connection)
    first = one.history.known.present
    async with one.read() as connection:
        await epochs.begin(connection, set_back=first)
    async with other.read() as connection:
        await epochs.begin(connection)
    lost = one.history.known.present
    assert first != lost == other.history.known.present
    async with one.read() as connection:
        await execute(connection, "DELETE FROM nestrel.epochs WHERE id = $1", lost)
        before = len(await fetch(connection, "SELECT FROM nestrel.epochs"))
    for database in (one, other):
        with pytest.raises(StoreUnavailable, match="restored"):
            async with database.read() as connection:
                [(epoch,)] = await fetch(connection, f"SELECT {epochs.CURRENT}")
                database.history.check(epoch)
    present = one.history.known.present
    assert present == other.history.known.present
    assert present not in (first, lost)
    async with one.read() as connection:
        assert len(await fetch(connection, "SELECT FROM nestrel.epochs")) == before + 1  # by whoever met it first
