"""Standbys that answer reads: never less than was acknowledged, and whatever is wrong with one costs time alone."""

from __future__ import annotations

import asyncio
import json
import os
import random
import signal
import tempfile
from collections.abc import AsyncIterator, Awaitable, Callable, Iterator
from contextlib import AbstractContextManager, AsyncExitStack, asynccontextmanager, contextmanager
from pathlib import Path
from typing import Any

import httpx
import psutil
import pytest
import pytest_asyncio

from nestrel.local.postgres import LocalPostgres
from nestrel.service.loading import SettingsError, load_settings
from nestrel.store import schema
from nestrel.store.database import Database
from nestrel.store.durability import Durability
from nestrel.store.native import Connection, fetch
from nestrel.store.replicas import Replicas
from tests.support import Person, Served, doctor, once, unique
from tests.test_restored import Cluster

pytestmark = pytest.mark.whole

off = asyncio.to_thread


class Reading:
    """A service that reads from a standby too."""

    def __init__(self, cluster: Cluster, served: Served) -> None:
        self.cluster = cluster
        self.served = served
        self.mara = Person(served.url, unique("mara"))
        self.backend = Person(served.url, unique("office"), scope="nestrel.service")

    async def counted(self, outcome: str) -> float:
        """How many questions to the standby have come to this."""
        text = (await off(httpx.get, f"{self.served.url}/metrics")).text
        name = f'nestrel_replica_reads_total{{outcome="{outcome}"}} '
        return sum(float(line.removeprefix(name)) for line in text.splitlines() if line.startswith(name))

    async def answered_by_the_standby(self, ask: Callable[[], Awaitable[Any]]) -> Any:
        """What is answered, once it was the standby that did."""

        async def look() -> Any:
            before = await self.counted("answered")
            answer = await ask()
            return answer if await self.counted("answered") > before else None

        return await once(look, lambda answer: answer is not None)

    @asynccontextmanager
    async def behind(self) -> AsyncIterator[None]:
        """The standby gets nothing new."""
        await off(self.cluster.other.query, "SELECT pg_wal_replay_pause()")
        await once(
            lambda: off(self.cluster.other.query, "SELECT pg_get_wal_replay_pause_state()"),
            lambda state: state == "paused",
        )
        try:
            yield
        finally:
            await off(self.cluster.other.query, "SELECT pg_wal_replay_resume()")


@pytest_asyncio.fixture(scope="module")
async def standing() -> AsyncIterator[tuple[Cluster, Served]]:
    with tempfile.TemporaryDirectory(prefix="nestrel-replicas-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        cluster = Cluster(Path(folder))
        try:
            await schema.upgrade(cluster.primary.url("nestrel"))
            await off(cluster.copy)
            await off(cluster.standby)
            url = cluster.primary.url("nestrel")
            there = url.replace(f":{cluster.primary.port}/", f":{cluster.other.port}/")
            with Served(url, NESTREL_REPLICA_URLS=there) as served:
                await off(served.wait_ready)
                yield cluster, served
        finally:
            cluster.stop()


@pytest.fixture
def reading(standing: tuple[Cluster, Served]) -> Reading:
    return Reading(*standing)


_DEEDS = ("post", "edit", "remove", "like", "pause", "resume", "read")


@pytest.mark.parametrize("seed", range(6))
async def test_a_reader_never_finds_less_than_was_acknowledged(reading: Reading, seed: int) -> None:
    mara, dice, standby = reading.mara, random.Random(seed), reading.cluster.other
    place = (await mara.make())["id"]
    at, bodies, liked = f"/conversations/{place}/messages", list[str | None](), set[int]()
    before = await reading.counted("behind")
    for n, deed in enumerate(["post", "pause", "post", *dice.choices(_DEEDS, k=25), "resume"]):
        seq = len(bodies)
        there = seq and bodies[-1] is not None
        if deed == "pause":
            await off(standby.query, "SELECT pg_wal_replay_pause()")
        elif deed == "resume":
            await off(standby.query, "SELECT pg_wal_replay_resume()")
        elif deed == "post":
            bodies.append(f"said {n}")
            assert (await mara.post(place, f"said {n}")).status_code == 201
        elif there and deed == "edit":
            bodies[-1] = f"edited {n}"
            assert (await mara.http.patch(f"{at}/{seq}", json={"body": bodies[-1]})).status_code == 200
        elif there and deed == "like":
            liked.add(seq)
            assert (await mara.http.put(f"{at}/{seq}/reactions/like")).status_code in (200, 201)
        elif there and deed == "remove":
            bodies[-1] = None
            liked.discard(seq)
            assert (await mara.http.delete(f"{at}/{seq}")).status_code == 200
        # Another limit is another page than those that are kept.
        page = await mara.page(place, order="asc", limit=100 - n)
        assert [one["body"] if one["removed_at"] is None else None for one in page["items"]] == bodies
        assert {one["seq"] for one in page["items"] if one["reactions"]} == liked
    assert await reading.counted("behind") > before
    await reading.answered_by_the_standby(lambda: mara.page(place, limit=dice.randint(30, 90)))


async def test_archives_and_exports_come_from_a_standby_that_has_them_as_they_stand(reading: Reading) -> None:
    mara, odd, backend = reading.mara, Person(reading.served.url, unique("odd")), reading.backend
    rule = {"keep_last": 3, "then": "archive"}
    place = (await mara.make(members=[odd.user], retention=rule))["id"]
    for n in range(6):
        await odd.post(place, f"odd's own {n}")
    while (await backend.http.post("/retention/run")).json()["waiting"]:
        pass
    segment, everything = f"/conversations/{place}/archive/1", f"/conversations/{place}/export"

    async def archived() -> httpx.Response:
        return await mara.http.get(segment)

    async def exported() -> httpx.Response:
        return await mara.http.get(everything, params={"part": "all"})

    for ask in (archived, exported):
        assert "odd's own 1" in (await reading.answered_by_the_standby(ask)).text
    async with reading.behind():
        begun = await backend.http.post("/erasures", json={"user_id": odd.user, "confirm": True})
        assert begun.status_code == 201, begun.text
        at = f"/erasures/{begun.json()['id']}"

        async def over() -> Any:
            return (await backend.http.get(at)).json()["finished_at"]

        await once(over, lambda when: when is not None)
        for ask in (archived, exported):
            answer = await ask()
            assert answer.status_code == 200, answer.text
            assert "odd's own" not in answer.text
    for ask in (archived, exported):
        answer = await reading.answered_by_the_standby(ask)
        assert "odd's own" not in answer.text
        assert len(answer.text.splitlines()) >= 3


async def test_a_standby_that_has_much_to_do_is_waited_for(reading: Reading, afterwards: AsyncExitStack) -> None:
    """Longer than for one that does not even say what it holds."""
    primary, standby = (server.url("nestrel") for server in (reading.cluster.primary, reading.cluster.other))
    outcomes: list[str] = []
    database = Database(primary)
    replicas = Replicas(database, [standby], count=outcomes.append)
    for opened in (database, replicas):
        afterwards.push_async_callback(opened.close)

    async def holds(_connection: Connection) -> bool:
        return True

    async def work(connection: Connection) -> str:
        await fetch(connection, "SELECT pg_sleep(2.5)")
        return "done"

    assert await replicas.ask(holds, work) == "done"
    assert outcomes == ["answered"]


@contextmanager
def freezing(server: LocalPostgres) -> Iterator[None]:
    """It takes connections and questions, and answers none."""
    first = psutil.Process(int((server.data / "postmaster.pid").read_text().split()[0]))
    processes = [first, *first.children(recursive=True)]
    for one in processes:
        one.send_signal(signal.SIGSTOP)
    try:
        yield
    finally:
        for one in processes[::-1]:
            one.send_signal(signal.SIGCONT)


@contextmanager
def ending(server: LocalPostgres) -> Iterator[None]:
    """All that is under way on it ends."""
    server.query("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'nestrel'")
    yield


_LINES = 12_000
Away = Callable[[LocalPostgres], AbstractContextManager[None]]


@pytest.mark.parametrize("away", [ending, freezing])
async def test_an_export_whose_standby_goes_away_goes_on_where_it_was(reading: Reading, away: Away) -> None:
    """Each message comes once and in order; what was removed meanwhile, and has not come yet, comes removed."""
    mara, other = reading.mara, reading.cluster.other
    place = (await mara.make())["id"]
    words = "lost property " * 60
    for start in range(0, _LINES, 4_000):
        lines = [
            {"author_id": mara.user, "created_at": "2026-01-01T00:00:00Z", "key": f"{n}", "body": f"{words}{n}"}
            for n in range(start, start + 4_000)
        ]
        sent = "\n".join(map(json.dumps, lines))
        assert (await reading.backend.http.post(f"/conversations/{place}/import", content=sent)).status_code == 200

    await reading.answered_by_the_standby(lambda: mara.page(place, limit=random.randint(30, 90)))
    failed, answered = await reading.counted("failed"), await reading.counted("answered")
    async with mara.http.stream("GET", f"/conversations/{place}/export") as answer:
        coming = answer.aiter_lines()
        found = [json.loads(await anext(coming))]
        assert await reading.counted("answered") == answered + 1
        with away(other):
            await mara.http.delete(f"/conversations/{place}/messages/{_LINES}")
            found += [json.loads(line) async for line in coming]
    assert [one["seq"] for one in found] == list(range(1, _LINES + 1))
    assert found[-1]["removed_at"] is not None
    assert found[-1]["body"] == ""
    assert await reading.counted("failed") == failed + 1


async def test_search_asks_a_standby_for_blocks_and_the_primary_for_what_stands_in_them(reading: Reading) -> None:
    mara = reading.mara
    place = (await mara.make())["id"]
    await mara.post(place, "a lantern at the slip")
    await mara.post(place, "another lantern")

    async def found() -> list[int]:
        answer = await mara.http.get("/search", params={"q": "lantern"})
        return [item["message"]["seq"] for item in answer.json()["items"]]

    await once(found, lambda seqs: seqs == [2, 1])
    assert await reading.answered_by_the_standby(found) == [2, 1]
    async with reading.behind():
        await mara.http.delete(f"/conversations/{place}/messages/2")
        assert await found() == [1]


async def test_a_standby_that_is_frozen_dead_or_of_another_history_costs_time_alone(reading: Reading) -> None:
    mara, cluster = reading.mara, reading.cluster
    there = cluster.primary.url("nestrel").replace(f":{cluster.primary.port}/", f":{cluster.other.port}/")
    place = (await mara.make())["id"]
    await mara.post(place, "both have this")
    # Another limit is another page than those that are kept.
    await reading.answered_by_the_standby(lambda: mara.page(place, limit=random.randint(30, 90)))

    with freezing(cluster.other):
        page = await mara.page(place, limit=7)
        assert [one["body"] for one in page["items"]] == ["both have this"]
        assert await reading.counted("failed") > 0
        assert (await mara.post(place, "on the primary")).status_code == 201
    await reading.answered_by_the_standby(lambda: mara.page(place, limit=random.randint(30, 90)))

    found = await doctor(cluster.primary.url("nestrel"), NESTREL_REPLICA_URLS=there)
    assert found["durability"][0] is False  # as the servers of these tests wait for no disk

    async def says() -> tuple[bool, str]:
        return (await doctor(cluster.primary.url("nestrel"), NESTREL_REPLICA_URLS=there))["standby for reads"]

    # What it has missed while it was frozen it gets a moment later.
    await once(says, (True, "answers, a standby, 0.0 s behind").__eq__)

    # When commits wait for it, it matters how often it comes again and says what it has: decisions/063.
    await off(cluster.primary.query, "ALTER SYSTEM SET synchronous_standby_names = '*'")
    await off(cluster.primary.query, "SELECT pg_reload_conf()")

    sleeps = "answers, a standby, 0.0 s behind; after a failover commits may wait for it, by its "
    for changed, said in (
        (None, f"{sleeps}wal_receiver_status_interval 10s, wal_retrieve_retry_interval 5s"),
        ("wal_receiver_status_interval = '1s'", f"{sleeps}wal_retrieve_retry_interval 5s"),
        ("wal_retrieve_retry_interval = '500ms'", "answers, a standby, 0.0 s behind"),
    ):
        if changed:
            await off(cluster.other.query, f"ALTER SYSTEM SET {changed}")
            await off(cluster.other.query, "SELECT pg_reload_conf()")
        await once(says, (True, said).__eq__)
    await off(cluster.primary.query, "ALTER SYSTEM RESET synchronous_standby_names")
    await off(cluster.primary.query, "SELECT pg_reload_conf()")

    # Of another history: it was made a primary of its own, where the same numbers mean other changes.
    await off(cluster.other._run, "pg_ctl", "promote", "-w", "-D", str(cluster.other.data))
    with Served(there) as alone:
        await off(alone.wait_ready)
        other = Person(alone.url, mara.user)
        for n in range(5):
            assert (await other.post(place, f"of a history that is lost {n}")).status_code == 201
    assert (await mara.post(place, "of this history")).status_code == 201
    found = await doctor(cluster.primary.url("nestrel"), NESTREL_REPLICA_URLS=there)
    assert found["standby for reads"][0] is False
    for limit in range(10, 20):
        page = await mara.page(place, order="asc", limit=limit)
        assert [one["body"] for one in page["items"]] == ["both have this", "on the primary", "of this history"]

    # Dead.
    await off(cluster.other.stop, "immediate")
    assert len((await mara.page(place, limit=21))["items"]) == 3


@pytest.mark.parametrize(
    ("commits", "waits_for", "standbys", "good", "begins"),
    [
        ("on", "", 0, True, "alone"),
        ("on", "", 2, True, "asynchronous"),
        ("on", "one", 2, True, "synchronous"),
        ("on", "*", 0, True, "synchronous: acknowledged when a standby has it, too (none"),
        ("local", "one", 2, False, "acknowledged before a standby"),
        ("off", "one", 2, False, "acknowledged before it is on a disk"),
    ],
)
def test_what_an_acknowledgement_stands_on_is_said(
    commits: str, waits_for: str, standbys: int, good: bool, begins: str
) -> None:
    found = Durability(True, commits, waits_for, standbys, True)
    assert found.good is good
    assert found.words.startswith(begins)
    assert not Durability(False, commits, waits_for, standbys, True).good


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("postgresql://u@one/db", ("postgresql://u@one/db",)),
        ("postgresql://u@one,two/db,postgres://u@three/db", ("postgresql://u@one,two/db", "postgres://u@three/db")),
        ("postgresql://u@one/db  postgresql://u@two/db ", ("postgresql://u@one/db", "postgresql://u@two/db")),
        ("", ()),
    ],
)
def test_several_standbys_stand_in_one_setting(text: str, found: tuple[str, ...]) -> None:
    assert load_settings(replica_urls=text).replica_urls == found


def test_what_is_no_address_of_a_standby_is_said_to_be_none() -> None:
    with pytest.raises(SettingsError, match="REPLICA_URLS"):
        load_settings(replica_urls="mysql://one/db")
