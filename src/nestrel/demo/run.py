"""Start everything that the demo needs, in order, and end it in the other order."""

from __future__ import annotations

import asyncio
import contextlib
import multiprocessing
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from multiprocessing.process import BaseProcess

import httpx
import uvicorn
from pydantic import SecretStr

from nestrel.demo import files, seed
from nestrel.demo.issuer import check_loopback, make_issuer, origins_of
from nestrel.demo.postgres import LocalPostgres
from nestrel.service.settings import Settings
from nestrel.store import schema
from nestrel.store.database import Database

SEED = 2026
DATABASE = "nestrel_demo"


@contextmanager
def database(settings: Settings) -> Iterator[str]:
    """The configured database, or one on a local PostgreSQL that runs for the block."""
    if settings.database_url is not None:
        yield settings.database_url
        return
    postgres = LocalPostgres(settings.data_dir)
    started = postgres.start()
    try:
        postgres.create_database(DATABASE)
        yield postgres.url(DATABASE)
    finally:
        if started:
            postgres.stop()


def fill(url: str, progress: Callable[[int], None]) -> bool:
    """Bring the schema to date and, if there is nothing in it, the scenario in. False: there was something."""

    async def run() -> bool:
        await schema.upgrade(url)
        store = Database(url)
        try:
            if not await seed.is_empty(store):
                return False
            await seed.seed(store, datetime.now(UTC), SEED, progress)
            return True
        finally:
            await store.close()

    return asyncio.run(run())


def _serve_issuer(address: str, port: int, audience: str, client_id: str, origins: tuple[str, ...]) -> None:
    app = make_issuer(address, audience, client_id, origins)
    uvicorn.run(app, host="127.0.0.1", port=port, log_level="error", access_log=False)


@contextmanager
def issuer(settings: Settings, port: int) -> Iterator[Settings]:
    """The stand-in issuer in a process of its own; yields the settings that trust it, and the demo's secret.

    Raises:
        IssuerError: the service would listen on more than loopback.
    """
    check_loopback(settings.host)
    address = f"http://127.0.0.1:{port}"
    process: BaseProcess = multiprocessing.get_context("spawn").Process(
        target=_serve_issuer,
        args=(address, port, files.AUDIENCE, settings.client_id, origins_of(settings.port)),
        daemon=True,
    )
    process.start()
    try:
        _wait_for(f"{address}/jwks", process)
        trust = files.write(settings.data_dir, address)
        yield settings.model_copy(
            update={
                "jwt_secret": SecretStr(trust.secret),
                "jwks_url": f"{address}/jwks",
                "issuer": trust.issuer,
                "audience": trust.audience,
            }
        )
    finally:
        process.terminate()
        process.join(10)


def _wait_for(url: str, process: BaseProcess) -> None:
    pause = threading.Event()
    for _ in range(200):
        with contextlib.suppress(httpx.HTTPError):
            httpx.get(url, timeout=2).raise_for_status()
            return
        if not process.is_alive():
            break
        pause.wait(0.05)
    raise OSError(f"the demo's issuer did not start at {url}; is the port taken?")
