"""Work in the background through a PgBouncer in transaction mode, which gives each transaction another connection."""

from __future__ import annotations

import asyncio
import os
import signal
import tempfile
from collections.abc import AsyncIterator, Callable
from pathlib import Path
from typing import Any

import psutil
import pytest
import pytest_asyncio
from cluster import processes

from nestrel.local.postgres import free_port
from nestrel.store import addresses, roles
from nestrel.store.database import SETTINGS, Database
from nestrel.store.native import execute, fetch
from tests.receiver import receiver
from tests.support import Person, Served, doctor, once, own_cluster, unique

pytestmark = pytest.mark.whole

off = asyncio.to_thread

_INI = """
[databases]
pooled = host=127.0.0.1 port={port} dbname=pooled
[pgbouncer]
listen_addr = 127.0.0.1
listen_port = {own}
unix_socket_dir =
auth_type = scram-sha-256
auth_file = {folder}/users
pool_mode = transaction
default_pool_size = 3
query_wait_timeout = 10
server_login_retry = 1
"""


class Pooler:
    """A PgBouncer of the test's own, in front of a database in which a role serves; `url` leads through it,
    and `owner` carries a statement out as somebody who may do everything."""

    def __init__(self, folder: Path, direct: str, owner: Callable[[str], object]) -> None:
        parts = addresses.parsed(direct)
        self._folder = folder
        own = free_port()
        self.direct = direct
        self.owner = owner
        self.url = parts.set(drivername="postgresql", port=own).render_as_string(hide_password=False)
        (folder / "ini").write_text(_INI.format(port=parts.port, own=own, folder=folder))
        (folder / "users").write_text(f'"{parts.username}" "{parts.password}"\n')
        self._started: processes.Started | None = None

    def start(self) -> None:
        command = ["/usr/sbin/pgbouncer", str(self._folder / "ini")]
        self._started = processes.start(command, self._folder / "log", postgres=True)

    def kill(self) -> None:
        found = processes.tree(self._started, None)
        processes.send(found, signal.SIGKILL)
        psutil.wait_procs(found, timeout=30)
        processes.reap()


@pytest_asyncio.fixture(scope="module")
async def pooler() -> AsyncIterator[Pooler]:
    with tempfile.TemporaryDirectory(prefix="nestrel-pooler-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        async with own_cluster("pooled") as postgres:
            owner = postgres.url("pooled")
            await roles.make(owner, "nestrel_owner", "nestrel_serving")
            postgres.query("ALTER ROLE nestrel_serving PASSWORD 'of-the-test'")
            parts = addresses.parsed(owner).set(drivername="postgresql", username="nestrel_serving")
            direct = parts.set(password="of-the-test").render_as_string(hide_password=False)
            made = Pooler(Path(folder), direct, postgres.query)
            made.start()
            try:
                yield made
            finally:
                made.kill()


@pytest_asyncio.fixture
async def pooled(pooler: Pooler) -> AsyncIterator[Database]:
    database = Database(pooler.url, pooled=True)

    async def answers() -> bool:
        try:
            async with database.read():
                return True
        except Exception:
            return False

    await once(answers, bool)
    yield database
    await database.close()


async def test_statements_hold_together_over_changing_connections(pooled: Database) -> None:
    """Prepared by nobody, each in a transaction: many at once, on three connections of the server's."""
    servers: set[int] = set()

    async def ask(n: int) -> None:
        for _ in range(20):
            async with pooled.read() as connection:
                [(pid, value)] = await fetch(connection, "SELECT pg_backend_pid(), $1::int", n)
                servers.add(pid)
                assert value == n
            async with pooled.snapshot() as connection:
                moments = {(await fetch(connection, "SELECT transaction_timestamp()"))[0][0] for _ in range(3)}
                assert len(moments) == 1

    await asyncio.gather(*(ask(n) for n in range(8)))
    assert len(servers) > 1


async def test_the_role_has_what_each_connection_of_the_service_s_has(pooled: Database) -> None:
    async with pooled.read() as connection:
        for name, value in SETTINGS.items():
            [(found, wanted)] = await fetch(
                connection, "SELECT current_setting($1), $2", name, value.replace("60s", "1min")
            )
            assert found.lower() == wanted.lower(), name


async def test_doctor_says_whether_the_role_has_the_settings(pooler: Pooler, pooled: Database) -> None:
    found = await doctor(pooler.direct, NESTREL_POOLER_URL=pooler.url)
    assert found["pooler"] == (True, "answers")
    assert found["durability"][1].startswith("alone")
    assert found["bus"] == (True, "the database's own")
    pooler.owner("ALTER ROLE nestrel_serving RESET plan_cache_mode")
    await off(pooler.kill)  # whose connections have the settings of before
    pooler.start()
    try:

        async def look() -> str:
            return (await doctor(pooler.direct, NESTREL_POOLER_URL=pooler.url))["pooler"][1]

        await once(look, lambda said: "nestrel db roles" in said)
    finally:
        pooler.owner("ALTER ROLE nestrel_serving SET plan_cache_mode = 'force_generic_plan'")
        await off(pooler.kill)
        pooler.start()


async def test_a_transaction_that_fails_leaves_nothing_to_the_next(pooled: Database) -> None:
    with pytest.raises(ZeroDivisionError):
        async with pooled.write() as connection:
            await execute(connection, "CREATE TEMP TABLE left_over (n int) ON COMMIT DROP")
            raise ZeroDivisionError
    async with pooled.write() as connection:
        assert (await fetch(connection, "SELECT to_regclass('left_over')"))[0][0] is None


async def test_a_service_whose_background_goes_through_it_does_all_its_work(pooler: Pooler) -> None:
    settings: dict[str, Any] = {
        "NESTREL_POOLER_URL": pooler.url, "NESTREL_SWEEP_SECONDS": "0.2", "NESTREL_WEBHOOK_HOSTS": "127.0.0.1/32",
    }  # fmt: skip
    with Served(pooler.direct, **settings) as served:
        await off(served.wait_ready)
        mara, backend = Person(served.url, unique("mara")), Person(served.url, "office", scope="nestrel.service")
        async with receiver() as hears:
            made = await backend.http.post("/webhooks", json={"url": hears.url})
            assert made.status_code == 201, made.text
            place = (await mara.make(retention={"keep_last": 3, "then": "archive"}))["id"]
            await mara.fill(place, 6, "lantern ")
            await hears.has(lambda it: place in it.held and len(it.held[place].messages) >= 3)

            async def found() -> int:
                return len((await mara.http.get("/search", params={"q": "lantern"})).json()["items"])

            async def archived() -> int:
                return len((await mara.http.get(f"/conversations/{place}/archive")).json()["items"])

            await once(found, lambda n: n == 3)
            await once(archived, lambda n: n > 0)

            # It dies: who posts and reads sees nothing of it, and the background goes on where it was.
            await off(pooler.kill)
            await mara.fill(place, 3, "beacon ")
            assert (await mara.page(place))["head"] == 9
            await off(served.wait_ready)
            pooler.start()
            await hears.has(lambda it: 9 in it.held[place].messages)
            begun = await backend.http.post("/erasures", json={"user_id": mara.user, "confirm": True})

            async def over() -> Any:
                return (await backend.http.get(f"/erasures/{begun.json()['id']}")).json()["finished_at"]

            await once(over, lambda at: at is not None)
        assert "Traceback" not in served.log()
        assert "exception" not in served.log()
