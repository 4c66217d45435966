"""What a process says that cannot serve yet: once, what is missing, in a sentence."""

from __future__ import annotations

import asyncio
import json
import os
import socket
import subprocess
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import asyncpg
import httpx
import pytest

from nestrel.local.postgres import LocalPostgres, free_port
from nestrel.store import addresses, schema
from tests.forked import nestrel
from tests.support import PATIENCE, SECRET, Person, Served, until


def _lines(served: Served, event: str) -> list[dict[str, Any]]:
    found = [json.loads(line) for line in served.log().splitlines() if line.startswith("{")]
    return [one for one in found if one["event"] == event]


@pytest.mark.whole
def test_a_database_that_is_not_there_is_waited_for_and_named_once() -> None:
    with tempfile.TemporaryDirectory(prefix="nestrel-start-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        postgres = LocalPostgres(Path(folder), durable=False)
        postgres.start()
        postgres.create_database("late")
        url, port = postgres.url("late"), postgres.port
        postgres.stop("fast")
        try:
            with Served(url) as served:
                until(lambda: httpx.get(f"{served.url}/healthz").status_code == 200)
                until(lambda: bool(_lines(served, "store.waited_for")))
                [first] = _lines(served, "store.waited_for")
                where = urlsplit(url)
                assert f"{where.hostname}:{where.port}/late" in first["missing"]
                assert str(where.password) not in served.log()
                postgres.start(port)
                until(lambda: len(_lines(served, "store.waited_for")) == 2)
                assert "nestrel db upgrade" in _lines(served, "store.waited_for")[1]["missing"]
                asyncio.run(schema.upgrade(url))
                served.wait_ready()
                until(lambda: bool(_lines(served, "store.serves")))
                assert len(_lines(served, "store.waited_for")) == 2
                # What every part of it would have said, again and again, is in the log once.
                told = [one for one in map(json.loads, _json(served)) if one["level"] == "warning"]
                said = [(one["event"], one.get("reason") or one.get("missing")) for one in told]
                assert len(said) == len(set(said)), said
                mara = Person(served.url, "mara")
                made = asyncio.run(_made(mara))
                assert made == 201
        finally:
            postgres.stop("immediate")


async def _made(mara: Person) -> int:
    async with httpx.AsyncClient(headers={"Authorization": f"Bearer {mara.token}"}) as http:
        return (await http.post(f"{mara.url}/v1/conversations", json={})).status_code


def _json(served: Served) -> list[str]:
    return [line for line in served.log().splitlines() if line.startswith("{")]


def _serve(**env: str) -> subprocess.CompletedProcess[str]:
    clean = {name: value for name, value in os.environ.items() if not name.startswith("NESTREL_")}
    settings = {"NESTREL_JWT_SECRET": SECRET, "NESTREL_DATABASE_URL": "postgresql://x@127.0.0.1:9/x", **env}
    return nestrel("serve", "--port", str(free_port()), env={**clean, **settings}, seconds=PATIENCE)


def test_a_port_that_is_taken_is_named_as_what_it_is_for() -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        done = _serve(NESTREL_METRICS_PORT=str(port))
    assert done.returncode == 1
    assert f"127.0.0.1:{port} for metrics (NESTREL_METRICS_PORT)" in done.stderr
    assert "listens on" not in done.stderr.replace("cannot listen on", "")


def test_a_setting_that_is_none_stops_the_start() -> None:
    done = _serve(NESTREL_RATELIMIT="60")
    assert (done.returncode, "did you mean NESTREL_RATE_LIMIT?" in done.stderr) == (2, True)


def test_servers_and_databases_that_cannot_be_used() -> None:
    assert schema.unfit(150_004, "UTF8") is None
    assert schema.unfit(140_000, "UTF8") is None
    assert "too old: the service needs 14" in str(schema.unfit(130_011, "UTF8"))
    assert "LATIN1" in str(schema.unfit(150_004, "LATIN1"))


@pytest.mark.whole
async def test_a_database_in_another_encoding_is_refused_at_once(make_empty: Callable[[], str]) -> None:
    url = make_empty()
    connection = await asyncpg.connect(addresses.driver(url))
    name = f"latin_{urlsplit(url).path[-8:]}"
    await connection.execute(f"CREATE DATABASE {name} ENCODING 'LATIN1' TEMPLATE template0 LC_COLLATE 'C' LC_CTYPE 'C'")
    await connection.close()
    other = urlsplit(url)._replace(path=f"/{name}").geturl()
    with pytest.raises(schema.Unfit, match="LATIN1"):
        await schema.upgrade(other)
    env = {**os.environ, "NESTREL_DATABASE_URL": other}
    done = await asyncio.to_thread(nestrel, "db", "upgrade", env=env, seconds=PATIENCE)
    assert (done.returncode, "ENCODING 'UTF8'" in done.stderr, "Traceback" in done.stderr) == (1, True, False)


@pytest.mark.whole
async def test_a_role_without_rights_is_told_so(make_database: Callable[[], str]) -> None:
    url = make_database()
    connection = await asyncpg.connect(addresses.driver(url))
    role = f"poor_{urlsplit(url).path[-8:]}"
    await connection.execute(f"CREATE ROLE {role} LOGIN PASSWORD 'p'")
    await connection.close()
    parts = urlsplit(url)
    poor = parts._replace(netloc=f"{role}:p@{parts.hostname}:{parts.port}").geturl()
    with Served(poor) as served:
        await asyncio.to_thread(until, lambda: bool(_lines(served, "store.waited_for")))
        assert "nestrel db" in _lines(served, "store.waited_for")[0]["missing"]
        assert max(map(len, served.log().splitlines())) < 2_000
        assert "Traceback" not in served.log()
