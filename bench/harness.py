"""Starts what is measured and what it is measured against, and puts the figures together."""

from __future__ import annotations

import asyncio
import os
import re
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

import asyncpg
import httpx
import psutil

from nestrel.local.postgres import LocalPostgres, find_binaries, free_port
from nestrel.service.minting import mint
from nestrel.store import schema

SECRET = "bench-secret-of-more-than-32-bytes-0000"
ROOT = Path(__file__).resolve().parent.parent


@dataclass(frozen=True, slots=True)
class Result:
    """One line of the table. `ratio` is ours over the floor's, or the plain figure where there is no floor; `cpu` what
    each of ours took where that was measured."""

    what: str
    ours: float
    floor: float | None
    unit: str
    target: str
    ratio: float
    met: bool
    cpu: Spent | None = None


@dataclass(frozen=True, slots=True)
class Spent:
    """CPU time of one operation in microseconds: in the service, in PostgreSQL, and in what makes the load."""

    service: float
    postgres: float
    load: float

    @property
    def ours(self) -> float:
        return self.service + self.postgres


class Meter:
    """CPU time between `begin` and `end`."""

    def __init__(self, bench: Bench, service: Process | None = None) -> None:
        self._bench = bench
        self._service = service
        self.spent = Spent(0, 0, 0)
        self.begin()

    def _now(self) -> tuple[float, float, float]:
        return self._service.cpu if self._service is not None else 0.0, self._bench.cpu, time.process_time()

    def begin(self) -> None:
        self._begun = self._now()

    def end(self, operations: float) -> Spent:
        """What each of so many operations took since `begin`."""
        now = self._now()
        self.spent = Spent(
            *((after - before) / operations * 1e6 for after, before in zip(now, self._begun, strict=True))
        )
        return self.spent


def token(user: str, scope: str | None = None) -> str:
    return mint(SECRET, user, seconds=86_400, now=int(time.time()), scope=scope)


def cpu_of(process: psutil.Process) -> float:
    """Seconds of CPU time of a process and its children, those that have ended and were waited for included."""
    times = [process.cpu_times()]
    for child in process.children(recursive=True):
        with suppress(psutil.NoSuchProcess):  # one that ends just now is in its parent's figures
            times.append(child.cpu_times())
    own = sum(one.user + one.system for one in times)
    return float(own + times[0].children_user + times[0].children_system)


class Process:
    """A process of ours, ended by its pid."""

    def __init__(self, *command: str, ready: str, port: int, **env: str) -> None:
        self.port = port
        self._log = tempfile.TemporaryFile()  # noqa: SIM115  # lives as long as the process
        self._popen = subprocess.Popen(
            [sys.executable, "-m", *command], env={**os.environ, **env}, cwd=ROOT, stdout=self._log, stderr=self._log
        )
        deadline = time.monotonic() + 60
        while True:
            try:
                if httpx.get(f"http://127.0.0.1:{port}{ready}").status_code < 500:
                    return
            except httpx.HTTPError:
                pass
            if self._popen.poll() is not None or time.monotonic() > deadline:
                self._log.seek(0)
                raise RuntimeError(f"{command} did not start:\n{self._log.read().decode()[-2000:]}")
            time.sleep(0.05)

    @property
    def memory(self) -> int:
        """Resident bytes."""
        return int(psutil.Process(self._popen.pid).memory_info().rss)

    @property
    def cpu(self) -> float:
        """Seconds of CPU time so far, of it and of what it has started."""
        return cpu_of(psutil.Process(self._popen.pid))

    def stop(self) -> None:
        self._popen.terminate()
        self._popen.wait(30)


class Bench:
    """A durable PostgreSQL with one database for the service and one for pgbench."""

    def __init__(self, postgres: LocalPostgres) -> None:
        self.postgres = postgres
        self.url = postgres.url("nestrel")

    @property
    def cpu(self) -> float:
        """Seconds of CPU time of PostgreSQL so far."""
        postmaster = (self.postgres.data / "postmaster.pid").read_text().split()[0]
        return cpu_of(psutil.Process(int(postmaster)))

    @contextmanager
    def service(self, workers: int = 1, **env: str) -> Iterator[Process]:
        port = free_port()
        settings = {
            "NESTREL_DATABASE_URL": self.url,
            "NESTREL_JWT_SECRET": SECRET,
            "NESTREL_LOG_LEVEL": "warning",
            "NESTREL_QUOTA_CONNECTIONS": "0",
            **env,
        }
        command = ("nestrel.cli", "serve", "--port", str(port), "--workers", str(workers))
        process = Process(*command, ready="/readyz", port=port, **settings)
        try:
            yield process
        finally:
            process.stop()

    @contextmanager
    def floors(self) -> Iterator[Process]:
        port = free_port()
        process = Process("bench.floors", str(port), ready="/openapi.json", port=port)
        try:
            yield process
        finally:
            process.stop()

    def pgbench(self, script: str, seconds: int, clients: int = 16) -> float:
        """Transactions a second of a pgbench script against the `floor` database."""
        with tempfile.NamedTemporaryFile("w", suffix=".sql") as file:
            file.write(script)
            file.flush()
            command = [str(find_binaries() / "pgbench"), "-n", "-M", "prepared", "-c", str(clients), "-j", "2",
                       "-T", str(seconds), "-f", file.name, self.postgres.url("floor")]  # fmt: skip
            output = subprocess.run(command, capture_output=True, text=True, check=True).stdout
        found = re.search(r"tps = ([\d.]+)", output)
        assert found, output
        return float(found[1])

    def sql(self, *statements: str, database: str = "nestrel") -> None:
        async def run() -> None:
            connection = await asyncpg.connect(
                self.postgres.url(database), server_settings={"search_path": "nestrel,public"}
            )
            for statement in statements:
                await connection.execute(statement, timeout=600)
            await connection.close()

        asyncio.run(run())


@contextmanager
def bench() -> Iterator[Bench]:
    with tempfile.TemporaryDirectory(prefix="nestrel-bench-") as folder:
        os.chmod(folder, 0o755)
        postgres = LocalPostgres(Path(folder))
        postgres.start()
        try:
            postgres.create_database("nestrel")
            postgres.create_database("floor")
            asyncio.run(schema.upgrade(postgres.url("nestrel")))
            yield Bench(postgres)
        finally:
            postgres.stop()
