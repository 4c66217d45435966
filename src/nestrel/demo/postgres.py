"""A PostgreSQL server of one's own, on loopback, from Debian's packages."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
from pathlib import Path

_FLAGS = {
    "listen_addresses": "127.0.0.1",
    "max_connections": "200",
    "shared_buffers": "256MB",
    "wal_compression": "on",
    "max_wal_size": "2GB",
    "log_min_messages": "warning",
}


class PostgresError(Exception):
    """The server cannot be set up or started; the text says what to do."""


def find_binaries() -> Path:
    """The folder with PostgreSQL's programs, of the newest version installed."""
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/pg_ctl"), key=lambda path: float(path.parts[-3]))
    if found:
        return found[-1].parent
    on_path = shutil.which("pg_ctl")
    if on_path is None:
        raise PostgresError("PostgreSQL is not installed; run script/setup, or: apt-get install postgresql")
    return Path(on_path).resolve().parent


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port: int = probe.getsockname()[1]
        return port


class LocalPostgres:
    """One cluster in one folder. As root, PostgreSQL's programs run as the `postgres` user, as they must."""

    def __init__(self, folder: Path, *, durable: bool = True, **settings: str) -> None:
        self.folder = folder
        self.data = folder / "postgres"
        self.port = 0
        self._binaries = find_binaries()
        self._settings = {**_FLAGS, **settings}
        if not durable:
            self._settings |= {"fsync": "off", "synchronous_commit": "off", "full_page_writes": "off"}
        self._root = os.geteuid() == 0

    @property
    def user(self) -> str:
        return "postgres"

    def url(self, database: str) -> str:
        return f"postgresql://{self.user}@127.0.0.1:{self.port}/{database}"

    def _run(self, program: str, *arguments: str) -> subprocess.CompletedProcess[str]:
        command = [str(self._binaries / program), *arguments]
        if self._root:
            command = ["/usr/sbin/runuser", "-u", "postgres", "--", *command]
        # Started from a folder that the postgres user can enter; pg_ctl's children inherit no pipe of ours.
        log = self.folder / f"{program}.out"
        with log.open("w") as out:
            done = subprocess.run(command, stdin=subprocess.DEVNULL, stdout=out, stderr=out, text=True, cwd="/")
        if done.returncode != 0:
            raise PostgresError(f"{program} failed:\n{log.read_text().strip()}")
        return done

    def _prepare(self) -> None:
        self.folder.mkdir(parents=True, exist_ok=True)
        if self._root:
            shutil.chown(self.folder, "postgres", "postgres")
        if not (self.data / "PG_VERSION").exists():
            self._run("initdb", "-D", str(self.data), "-U", self.user, "--auth=trust", "-E", "UTF8", "--locale=C.UTF-8")

    def running_port(self) -> int | None:
        """The port of the server that runs on this folder, if one does."""
        try:
            lines = (self.data / "postmaster.pid").read_text().splitlines()
            pid, port = int(lines[0]), int(lines[3])
            os.kill(pid, 0)
        except (OSError, IndexError, ValueError):
            return None
        return port

    def start(self, port: int | None = None) -> bool:
        """Start the server, making the cluster first if there is none. False: it was running already.

        Raises:
            PostgresError: it cannot be started.
        """
        running = self.running_port()
        if running is not None:
            self.port = running
            return False
        self._prepare()
        self.port = port or free_port()
        options = " ".join(f"-c {name}={value}" for name, value in self._settings.items())
        sockets = "-c unix_socket_directories=''"
        self._run("pg_ctl", "start", "-w", "-D", str(self.data), "-l", str(self.folder / "postgres.log"),
                  "-o", f"-p {self.port} {sockets} {options}")  # fmt: skip
        return True

    def stop(self, mode: str = "fast") -> None:
        """Stop it; `immediate` is the crash that recovery is for."""
        if self.running_port() is not None:
            self._run("pg_ctl", "stop", "-w", "-D", str(self.data), "-m", mode)

    def create_database(self, name: str, template: str = "template1") -> None:
        """Make a database unless it is there."""
        query = f"SELECT 1 FROM pg_database WHERE datname = '{name}'"
        self._run("psql", self.url("postgres"), "-Atc", query)
        if (self.folder / "psql.out").read_text().strip() != "1":
            self._run("createdb", "-h", "127.0.0.1", "-p", str(self.port), "-U", self.user, "-T", template, name)
