"""The cluster of several machines under load: a planned switchover, and the death of a primary, of Redis' too.
`script/cluster faults` does all of them, with their times; here only what was acknowledged counts, as another test may
take the machine."""

from __future__ import annotations

import asyncio
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import asyncpg
import pytest
from cluster.parts import Kind
from cluster.processes import State
from cluster.standing import Cluster, ClusterError

from tests.faults import FAULTS, make, run, whole
from tests.support import until

pytestmark = [pytest.mark.whole, pytest.mark.timeout(1200)]


@pytest.fixture(scope="module")
def cluster() -> Iterator[Cluster]:
    with tempfile.TemporaryDirectory(prefix="nestrel-cluster-", ignore_cleanup_errors=True) as folder:
        Path(folder).chmod(0o755)
        made = make(Path(folder), net=101, workers=1, demo_data=False)
        try:
            made.start(lambda _line: None)
            yield made
        finally:
            made.stop()


async def test_after_a_switchover_nobody_waits_for_a_standby_that_sleeps(cluster: Cluster) -> None:
    """By default it comes again every 5 s only, and says every 10 s only what it has: decisions/063."""
    for part in cluster.places.of(Kind.POSTGRES):
        connection = await asyncpg.connect(cluster.database_url(part.address, part.port), timeout=60)
        try:
            assert await connection.fetchval("SHOW wal_retrieve_retry_interval") == "500ms"
            assert await connection.fetchval("SHOW wal_receiver_status_interval") == "1s"
        finally:
            await connection.close(timeout=60)


@pytest.mark.parametrize("name", ["a planned switchover", "the primary killed", "the Redis primary killed"])
async def test_nothing_acknowledged_is_lost_doubled_or_read_after_its_removal(cluster: Cluster, name: str) -> None:
    [fault] = [one for one in FAULTS if one.name == name]
    what = "redis-primary" if "Redis" in name else "primary"
    before = await asyncio.to_thread(cluster.part, what)
    outcome = await run(cluster, fault, 1, timed=False)
    assert outcome.broken == []
    assert outcome.acknowledged > 10
    assert await asyncio.to_thread(cluster.part, what) != before


async def test_parts_are_killed_frozen_and_healed_by_name(cluster: Cluster) -> None:
    off = asyncio.to_thread
    for harm, state in ((cluster.kill, State.DEAD), (cluster.freeze, State.FROZEN)):
        part = await off(harm, "pgbouncer")
        assert (part.kind, cluster.state(part)) == (Kind.PGBOUNCER, state)
        await off(cluster.heal, "pgbouncer")
        assert cluster.state(part) is State.RUNS
    with pytest.raises(ClusterError, match="there are etcd-1"):
        await off(cluster.kill, "postgres-9")
    await off(until, lambda: whole(cluster))


def test_the_command_says_what_there_is(tmp_path: Path) -> None:
    def command(*words: str) -> subprocess.CompletedProcess[str]:
        whole_ = [sys.executable, "-m", "cluster", "--folder", str(tmp_path), *words]
        return subprocess.run(whole_, capture_output=True, text=True, cwd=Path(__file__).parents[1])

    said = command("status")
    assert said.returncode == 0, said.stderr
    assert [line.split()[0] for line in said.stdout.splitlines()][:3] == ["etcd-1", "etcd-2", "etcd-3"]
    assert all("dead" in line for line in said.stdout.splitlines())
    wrong = command("kill", "everything")
    assert wrong.returncode == 1
    assert "there is no part everything" in wrong.stderr
