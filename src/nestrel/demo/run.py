"""Start everything that the demo needs, in order, and end it in the other order."""

from __future__ import annotations

import asyncio
import contextlib
import multiprocessing
import os
import signal
import socket
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from multiprocessing.connection import Connection
from multiprocessing.process import BaseProcess
from pathlib import Path

import httpx
import uvicorn
from pydantic import SecretStr

from nestrel.demo import board, pushes, seed
from nestrel.demo import files as trusts
from nestrel.demo.issuer import check_loopback, make_issuer, origins_of
from nestrel.files.objects import Files
from nestrel.local.postgres import LocalPostgres, alone
from nestrel.service.attachments import Attachments
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
    with postgres.used():
        postgres.create_database(DATABASE)
        yield postgres.url(DATABASE)


def check_free(host: str, port: int, option: str) -> None:
    """Refuse a taken port before anything is started.

    Raises:
        OSError: something else listens there, or the address is none of this machine.
    """
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    with socket.socket(family, socket.SOCK_STREAM) as probe:
        probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            probe.bind((host, port))
        except OSError as error:
            raise OSError(f"port {port} cannot be had ({error.strerror}); choose another with {option}") from None


def fill(url: str, folder: Path, files: Files, progress: Callable[[int], None]) -> bool:
    """Bring the schema to date and, if there is nothing in it, the scenario in; one demo with this folder at a time.
    What was cut short is finished. False: there was nothing to do."""
    began = folder / "filling"

    async def run() -> bool:
        await schema.upgrade(url)
        store = Database(url)
        attachments = Attachments(store, files)
        try:
            if not (began.exists() or await seed.is_empty(store)):
                return False
            if not began.exists():
                began.write_text(datetime.now(UTC).isoformat())
            # The same moment gives the same ids and keys, so that what is there is found.
            await seed.seed(store, attachments, datetime.fromisoformat(began.read_text()), SEED, progress)
            began.unlink()
            return True
        finally:
            await attachments.stop()
            await store.close()

    with alone(folder / "filling.lock"):
        return asyncio.run(run())


def _serve_stand_ins(
    parent: Connection, address: str, port: int, secret: str, client_id: str, origins: tuple[str, ...]
) -> None:
    threading.Thread(target=_end_without, args=(parent,), daemon=True).start()
    app = make_issuer(address, trusts.AUDIENCE, client_id, origins)
    app.include_router(board.router(board.secret(secret)))
    device = pushes.demo_device(secret)
    app.include_router(pushes.router({device.name: device}))
    uvicorn.run(app, host="127.0.0.1", port=port, log_level="error", access_log=False)


@contextmanager
def issuer(settings: Settings, port: int) -> Iterator[Settings]:
    """The stand-ins, the issuer, the office's board and a push service with one device, in a process of their own;
    yields the settings that trust the issuer, and the demo's secret.

    Raises:
        IssuerError: the service would listen on more than loopback.
    """
    check_loopback(settings.host)
    address = f"http://127.0.0.1:{port}"
    trust = trusts.write(settings.data_dir, address)
    spawn = multiprocessing.get_context("spawn")
    _ours, theirs = spawn.Pipe()  # ours is open for as long as this process is there
    process: BaseProcess = spawn.Process(
        target=_serve_stand_ins,
        args=(theirs, address, port, trust.secret, settings.client_id, origins_of(settings.port)),
        daemon=True,
    )
    process.start()
    theirs.close()
    try:
        _wait_for(f"{address}/jwks", process)
        yield settings.model_copy(
            update={
                "jwt_secret": SecretStr(trust.secret),
                "jwks_url": f"{address}/jwks",
                "issuer": trust.issuer,
                "audience": trust.audience,
                "push_hosts": (*settings.push_hosts, "127.0.0.1/32"),
            }
        )
    finally:
        process.terminate()
        process.join(10)


def connect_stand_ins(url: str, settings: Settings, port: int) -> None:
    """Have what changes in the demo sent to the office's board, and its handset told of what is posted."""
    trust = trusts.read(settings.data_dir)
    assert trust is not None
    address = f"http://127.0.0.1:{port}"

    async def connect() -> None:
        await board.send_to(url, f"{address}/board", board.secret(trust.secret))
        await pushes.subscribe(url, address, pushes.demo_device(trust.secret))

    with alone(settings.data_dir / "filling.lock"):
        asyncio.run(connect())


def _end_without(parent: Connection) -> None:
    """End this process when the one that started it is gone, however it went: its end of the pipe closes with it."""
    with contextlib.suppress(EOFError, OSError):
        parent.recv()
    os.kill(os.getpid(), signal.SIGTERM)


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
