"""A cluster as it stands: its parts are started, looked at, killed, frozen and healed by name."""

from __future__ import annotations

import asyncio
import os
import shutil
import signal
import socket
import sys
import threading
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

import asyncpg
import httpx
import psutil
import redis

from cluster import files, processes
from cluster.parts import PATRONI_PORT, POOLER_PORT, PRIMARY_PORT, STANDBYS_PORT, Kind, Part, Places
from cluster.processes import Started, State
from nestrel.demo import run as demo
from nestrel.files.opening import open_files
from nestrel.local.postgres import alone
from nestrel.store import roles, schema
from nestrel.store.troubles import reason_of

DATABASE = "nestrel"
PATIENCE = 180.0
"""Seconds for which is waited for a part: two cores that start everything at once take their time."""
_SYNCHRONOUS = "sync_standby"
_NEEDS = {
    "etcd": "etcd-server", "patroni": "patroni", "haproxy": "haproxy", "pgbouncer": "pgbouncer",
    "redis-server": "redis-server", "redis-sentinel": "redis-sentinel",
}  # fmt: skip


class ClusterError(Exception):
    """Something of the cluster cannot be done; the text says what, and what to do."""


def _program(name: str) -> str:
    found = shutil.which(name, path=f"{os.environ.get('PATH', '')}:/usr/sbin:/usr/bin")
    if found is None:
        raise ClusterError(f"{name} is not installed; run script/setup --cluster, or: apt-get install {_NEEDS[name]}")
    return found


def until(condition: Callable[[], bool], what: str, ended: Callable[[], Sequence[str]] = tuple) -> None:
    """Wait until something is so. Raises `ClusterError` when it takes too long, or what it waits for has ended."""
    pause, end = threading.Event(), time.monotonic() + PATIENCE
    while not condition():
        if gone := ended():
            raise ClusterError(f"{what}: {', '.join(gone)} has ended; its log says why")
        if time.monotonic() > end:
            raise ClusterError(f"{what}: not within {PATIENCE:.0f} s; what the parts said is in their logs")
        pause.wait(0.1)


class Cluster:
    """All parts with their data in one folder, in the network 127.0.`net`.0/24. `settings` are those of the services,
    beside and in place of their own; None takes one away."""

    def __init__(
        self,
        folder: Path,
        net: int,
        settings: Mapping[str, str | None] | None = None,
        *,
        workers: int = 2,
        demo_data: bool = True,
    ) -> None:
        self.folder = folder
        self.places = Places(net)
        self._workers = workers
        self._demo_data = demo_data
        self._settings = settings or {}
        folder.mkdir(parents=True, exist_ok=True)
        self._state = folder / "started.json"
        self._started = processes.load(self._state)
        self._known = files.secrets(folder)

    # --- What there is -----------------------------------------------------------------------------------------------

    def database_url(self, host: str, port: int, user: str = "postgres", database: str = DATABASE) -> str:
        secret = self._known["serving" if user == "nestrel_serving" else "postgres"]
        # HAProxy that has just started takes every server for a primary until it has asked.
        which = "primary" if port == PRIMARY_PORT else "any"
        return f"postgresql://{user}:{secret}@{host}:{port}/{database}?target_session_attrs={which}"

    def owner_url(self, database: str = DATABASE) -> str:
        """The primary, as somebody who may do everything."""
        return self.database_url(self.places.front, PRIMARY_PORT, database=database)

    @property
    def secret(self) -> str:
        """What signs tokens."""
        return self._known["tokens"]

    def part(self, name: str) -> Part:
        """A part by its name, or by what it is now: `primary`, `standby`, `redis-primary`."""
        if name in self.places.parts:
            return self.places.parts[name]
        found = {"primary": self.primary, "standby": self.standby, "redis-primary": self.redis_primary}.get(name)
        if found is None:
            raise ClusterError(f"there is no part {name}; there are {', '.join(self.places.parts)}")
        part = found()
        if part is None:
            raise ClusterError(f"no part is the {name} now")
        return part

    def log(self, part: Part) -> Path:
        return self.folder / "logs" / f"{part.name}.log"

    def _data(self, part: Part) -> Path | None:
        """Where its server keeps its data, if it is one that others start."""
        return self.folder / part.name / "data" if part.kind is Kind.POSTGRES else None

    def state(self, part: Part) -> State:
        return processes.state(self._started.get(part.name), self._data(part))

    def roles(self) -> dict[str, str]:
        """What Patroni says that each PostgreSQL is, by the part's name; empty while nobody answers."""
        for part in self.places.of(Kind.POSTGRES):
            with suppress(httpx.HTTPError, ValueError, KeyError):
                answer = httpx.get(f"http://{part.address}:{PATRONI_PORT}/cluster", timeout=2)
                return {
                    member["name"]: member["role"] if member.get("state") == "running" else member.get("state", "")
                    for member in answer.json()["members"]
                }
        return {}

    def _asked(self, part: Part, path: str) -> bool:
        try:
            return httpx.get(f"http://{part.address}:{PATRONI_PORT}{path}", timeout=2).status_code == 200
        except httpx.HTTPError:
            return False

    def primary(self) -> Part | None:
        """The PostgreSQL that says of itself that it is the primary."""
        return next((part for part in self.places.of(Kind.POSTGRES) if self._asked(part, "/primary")), None)

    def standby(self) -> Part | None:
        """The standby that each commit waits for."""
        return next((part for part in self.places.of(Kind.POSTGRES) if self._asked(part, "/synchronous")), None)

    def redis_role(self, part: Part) -> str:
        try:
            with redis.Redis(part.address, part.port, password=self._known["redis"], socket_timeout=2) as server:
                return {"master": "primary", "slave": "replica"}[str(server.role()[0].decode())]
        except (redis.RedisError, KeyError):
            return ""

    def redis_primary(self) -> Part | None:
        return next((part for part in self.places.of(Kind.REDIS) if self.redis_role(part) == "primary"), None)

    # --- Starting ----------------------------------------------------------------------------------------------------

    @contextmanager
    def alone(self) -> Iterator[None]:
        """One command at a time changes what runs."""
        with alone(self.folder / "lock"):
            self._started = processes.load(self._state)
            yield

    def start(self, say: Callable[[str], None]) -> None:
        """Start what does not run, make what is not there, and bring the demo's data in."""
        with self.alone():
            for kind in Kind:
                parts = [part for part in self.places.of(kind) if self.state(part) is State.DEAD]
                for part in parts:
                    self._start(part)
                if parts:
                    say(f"started {', '.join(part.name for part in parts)}")
                self._settle(kind, say)

    def _start(self, part: Part) -> None:
        if not self._free(part):
            raise ClusterError(f"{part.at} is taken by something that this cluster did not start")
        (self.folder / "logs").mkdir(exist_ok=True)
        self._started[part.name] = self._launch(part)
        processes.save(self._state, self._started)

    @staticmethod
    def _free(part: Part) -> bool:
        with socket.socket() as probe:
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind((part.address, part.port))
            except OSError:
                return False
        return True

    def _launch(self, part: Part) -> Started:
        folder, log, known = self.folder / part.name, self.log(part), self._known
        folder.mkdir(exist_ok=True)
        match part.kind:
            case Kind.ETCD:
                config = files.etcd(self.places, part, folder)
                return processes.start([_program("etcd"), "--config-file", config], log)
            case Kind.POSTGRES:
                archive = files.own_folder(self.folder / "archive", postgres=True)
                config = files.patroni(self.places, part, folder, known, archive)
                return processes.start([_program("patroni"), config], log, postgres=True)
            case Kind.HAPROXY:
                return processes.start([_program("haproxy"), "-db", "-f", files.haproxy(self.places, folder)], log)
            case Kind.PGBOUNCER:
                config = files.pgbouncer(self.places, folder, known)
                return processes.start([_program("pgbouncer"), config], log, postgres=True)
            case Kind.REDIS:
                return processes.start([_program("redis-server"), files.redis(self.places, part, folder, known)], log)
            case Kind.SENTINEL:
                config = files.sentinel(self.places, part, folder, known)
                return processes.start([_program("redis-sentinel"), config], log)
            case Kind.ISSUER:
                return processes.start(
                    [sys.executable, "-m", "cluster.issuer", part.address, self.places.url], log, self._paths()
                )
            case Kind.NESTREL:
                command = [sys.executable, "-m", "nestrel.cli", "serve", "--host", part.address,
                           "--workers", str(self._workers)]  # fmt: skip
                return processes.start(command, log, self._service())

    @staticmethod
    def _paths() -> dict[str, str]:
        return {"PYTHONPATH": str(files.DEPLOY.parent)}

    def _service(self) -> dict[str, str]:
        """The settings of a service, as its environment has them."""
        front, sentinels = self.places.front, ",".join(part.at for part in self.places.of(Kind.SENTINEL))
        issuer = self.places.of(Kind.ISSUER)[0]
        settings: dict[str, str | None] = {
            "NESTREL_DATABASE_URL": self.database_url(front, PRIMARY_PORT, "nestrel_serving"),
            "NESTREL_REPLICA_URLS": self.database_url(front, STANDBYS_PORT, "nestrel_serving"),
            "NESTREL_POOLER_URL": self.database_url(front, POOLER_PORT, "nestrel_serving"),
            "NESTREL_BUS": f"redis+sentinel://{sentinels}/nestrel?password={self._known['redis']}",
            "NESTREL_JWT_SECRET": self.secret,
            "NESTREL_JWKS_URL": f"http://{issuer.at}/jwks",
            "NESTREL_ISSUER": f"http://{issuer.at}",
            "NESTREL_AUDIENCE": "nestrel-demo",
            "NESTREL_PUBLIC_URL": self.places.url,
            "NESTREL_PROXIES": f"{front}/32",
            "NESTREL_FILES": str(self.folder / "files"),
            "NESTREL_DATA_DIR": str(self.folder / "files"),
            **self._settings,
        }
        return {name: value for name, value in settings.items() if value is not None}

    def _settle(self, kind: Kind, say: Callable[[str], None]) -> None:
        """Wait for what the next kind needs."""
        parts = self.places.of(kind)

        def wait(condition: Callable[[], bool], what: str) -> None:
            until(condition, what, lambda: [part.name for part in parts if self.state(part) is State.DEAD])

        match kind:
            case Kind.ETCD:
                wait(lambda: any(map(_decided, parts)), "etcd")
            case Kind.POSTGRES:
                wait(lambda: self.primary() is not None and self.standby() is not None, "a primary with a standby")
            case Kind.HAPROXY:
                wait(self._prepared, "the way to the primary")
            case Kind.SENTINEL:
                wait(lambda: self.redis_primary() is not None, "a Redis")
            case Kind.ISSUER if self._demo_data:
                self._fill(say)
            case Kind.NESTREL:
                wait(lambda: all(_ready(f"http://{part.at}") for part in parts), "the services")
                wait(lambda: _ready(self.places.url), "the services behind HAProxy")
            case _:
                pass

    def _prepared(self) -> bool:
        """Whether the database is there and to date now. HAProxy that has just started, or a primary, may be away."""
        try:
            asyncio.run(self._prepare())
        except Exception as error:
            if reason_of(error) is None:
                raise
            return False
        return True

    async def _prepare(self) -> None:
        """The database, its schema, and the role that serves."""
        connection = await asyncpg.connect(self.owner_url("postgres"), timeout=10)
        try:
            if not await connection.fetchval("SELECT 1 FROM pg_database WHERE datname = $1", DATABASE):
                await connection.execute(f'CREATE DATABASE "{DATABASE}"')
        finally:
            await connection.close(timeout=5)
        await schema.upgrade(self.owner_url())
        await roles.make(self.owner_url(), "nestrel_owner", "nestrel_serving")
        connection = await asyncpg.connect(self.owner_url(), timeout=10)
        try:
            # A password of our own making: letters, digits, - and _.
            await connection.execute(f"ALTER ROLE nestrel_serving PASSWORD '{self._known['serving']}'")
        finally:
            await connection.close(timeout=5)

    def _fill(self, say: Callable[[str], None]) -> None:
        folder = self.folder / "files"
        folder.mkdir(exist_ok=True)
        if demo.fill(self.owner_url(), folder, open_files(str(folder), None, folder), lambda _written: None):
            say("the demo's data is written")

    # --- Faults ------------------------------------------------------------------------------------------------------

    def _processes(self, part: Part) -> list[psutil.Process]:
        return processes.tree(self._started.get(part.name), self._data(part))

    def kill(self, name: str) -> Part:
        """End all processes of a part at once, as a machine that loses its power."""
        with self.alone():
            part = self.part(name)
            found = self._processes(part)
            processes.send(found, signal.SIGSTOP)  # so that none starts another
            found = [*found, *(one for one in self._processes(part) if one not in found)]
            processes.send(found, signal.SIGKILL)
            psutil.wait_procs(found, timeout=10)
            processes.reap()
            return part

    def freeze(self, name: str) -> Part:
        """Stop all processes of a part where they are, as a machine that hangs: its connections stay open."""
        with self.alone():
            part = self.part(name)
            for _ in range(2):  # what was started meanwhile too
                processes.send(self._processes(part), signal.SIGSTOP)
            return part

    def heal(self, name: str) -> Part:
        """Let a frozen part go on, or start a dead one; nothing where it runs."""
        with self.alone():
            part = self.part(name)
            state = self.state(part)
            if state is State.FROZEN:
                processes.send(self._processes(part)[::-1], signal.SIGCONT)
            elif state is State.DEAD:
                self._start(part)
            return part

    def switch(self) -> tuple[str, str]:
        """Make the synchronous standby the primary, in order; returns which was it and which is it now."""
        before, after = self.part("primary"), self.part("standby")
        answer = httpx.post(
            f"http://{before.address}:{PATRONI_PORT}/switchover",
            json={"leader": before.name, "candidate": after.name},
            timeout=PATIENCE,
        )
        if answer.status_code != 200:
            raise ClusterError(f"Patroni did not switch over: {answer.text}")
        return before.name, after.name

    def stop(self) -> None:
        """End everything, what needs others first; the data stays."""
        with self.alone():
            for kind in reversed(Kind):
                found = []
                for part in self.places.of(kind):
                    of_part = self._processes(part)
                    processes.send(of_part, signal.SIGCONT)
                    # Patroni ends its server in order; what it does not, is ended below.
                    processes.send(of_part[:1], signal.SIGTERM)
                    found += of_part
                _, alive = psutil.wait_procs(found, timeout=30)
                processes.send(alive, signal.SIGKILL)
            processes.reap()
            processes.save(self._state, {})
            self._started = {}


def _decided(part: Part) -> bool:
    """Whether this etcd has a leader."""
    try:
        return str(httpx.get(f"http://{part.at}/health", timeout=2).json()["health"]) == "true"
    except (httpx.HTTPError, ValueError, KeyError):
        return False


def _ready(url: str) -> bool:
    try:
        return httpx.get(f"{url}/readyz", timeout=5).status_code == 200
    except httpx.HTTPError:
        return False
