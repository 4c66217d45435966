"""One PostgreSQL for the run, one database cloned for each service, one service that most tests share."""

from __future__ import annotations

import asyncio
import inspect
import os
import signal
import tempfile
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import AsyncExitStack
from pathlib import Path
from typing import Any

import asyncpg
import httpx
import hypothesis
import pytest
from sqlalchemy.engine import make_url

from nestrel.local.postgres import LocalPostgres
from nestrel.store import schema
from nestrel.store.database import Database
from tests.house import House, in_process
from tests.pushed import PushService, push_service
from tests.support import PATIENCE, Person, Served, unique

# A machine that is busy with other things makes no example wrong.
hypothesis.settings.register_profile("nestrel", deadline=None, suppress_health_check=[hypothesis.HealthCheck.too_slow])
hypothesis.settings.load_profile("nestrel")

# Nor does it make an answer wrong that it is slow: the standard wait of the HTTP library is five seconds.
_WAIT: httpx.Timeout = inspect.signature(httpx.Client).parameters["timeout"].default
_WAIT.connect = _WAIT.read = _WAIT.write = _WAIT.pool = PATIENCE

TEMPLATE = "template_nestrel"

if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:
    # A shell starts what runs in its background so, and commands that a test interrupts would inherit it.
    signal.signal(signal.SIGINT, signal.default_int_handler)


@pytest.fixture(scope="session")
def postgres() -> Iterator[LocalPostgres]:
    with tempfile.TemporaryDirectory(prefix="nestrel-test-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)  # the postgres user must get in
        server = LocalPostgres(Path(folder), durable=False)
        server.start()
        try:
            server.create_database(TEMPLATE)
            asyncio.run(schema.upgrade(server.url(TEMPLATE)))
            yield server
        finally:
            server.stop("immediate")


@pytest.fixture(scope="session")
def make_database(postgres: LocalPostgres) -> Callable[[], str]:
    """Makes a database with the schema and gives its address."""

    def make() -> str:
        name = unique("test").replace("-", "_")
        postgres.create_database(name, TEMPLATE)
        return postgres.url(name)

    return make


@pytest.fixture(scope="session")
def make_empty(postgres: LocalPostgres) -> Callable[[], str]:
    """Makes a database with nothing in it and gives its address."""

    def make() -> str:
        name = unique("empty").replace("-", "_")
        postgres.create_database(name)
        return postgres.url(name)

    return make


@pytest.fixture
async def url(make_database: Callable[[], str]) -> str:
    """The address of a fresh database."""
    return make_database()


@pytest.fixture
async def database(url: str) -> AsyncIterator[Database]:
    """A fresh database, at the store's own door."""
    opened = Database(url)
    yield opened
    await opened.close()


@pytest.fixture
async def afterwards() -> AsyncIterator[AsyncExitStack]:
    """What has to be stopped or closed however the test ends: left open it would fail the next one."""
    async with AsyncExitStack() as stack:
        yield stack


@pytest.fixture
async def pushes() -> AsyncIterator[PushService]:
    """The stand-in push service."""
    async with push_service() as made:
        yield made


@pytest.fixture
async def stranger(url: str) -> AsyncIterator[asyncpg.Connection[Any]]:
    """Somebody else on the same database."""
    raw = await asyncpg.connect(make_url(url).render_as_string(hide_password=False))
    yield raw
    await raw.close()


@pytest.fixture(scope="session")
def service(make_database: Callable[[], str]) -> Iterator[Served]:
    """The shared service. Tests make their own conversations and members in it."""
    with Served(make_database()) as served:
        yield served.wait_ready()
        code = served.stop()
        # Whatever the tests sent it: it logged no bug, and it stopped in order.
        bugs = [line[:2000] for line in served.log().splitlines() if '"level":"error"' in line]
        assert bugs == []
        assert code == 0


@pytest.fixture
def own(make_database: Callable[[], str]) -> Iterator[Served]:
    """A service of the test's own, which it may stop and start."""
    with Served(make_database()) as served:
        yield served.wait_ready()


@pytest.fixture(autouse=True)
async def _close_people() -> AsyncIterator[None]:
    yield
    while Person.opened:
        await Person.opened.pop().http.aclose()


@pytest.fixture
def person(service: Served) -> Callable[..., Person]:
    """Makes members of the shared service, each with a user id of its own."""

    def make(name: str = "mara", **claims: object) -> Person:
        return Person(service.url, unique(name), **claims)

    return make


@pytest.fixture
async def house(
    make_database: Callable[[], str], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> AsyncIterator[House]:
    """The service within this process, on a database of its own."""
    async with in_process(make_database(), tmp_path, monkeypatch) as made:
        yield made
