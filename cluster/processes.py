"""The processes of a part: what it started, and what that has started in turn. Only what was started here is ever
signalled: each is known by its pid and by when it began."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from enum import StrEnum
from pathlib import Path

import orjson
import psutil

_SLACK_SECONDS = 3.0
"""How far a server's own note of when it began may be from what the machine says."""


_held: list[subprocess.Popen[bytes]] = []
"""What this process has started, which may outlive it: nobody is to be warned that it was let go of."""


class State(StrEnum):
    RUNS = "runs"
    FROZEN = "frozen"
    DEAD = "dead"


@dataclass(frozen=True, slots=True)
class Started:
    """A process, and the moment at which it began, in seconds since 1970."""

    pid: int
    began: float

    def process(self) -> psutil.Process | None:
        """It, unless it has ended."""
        try:
            found = psutil.Process(self.pid)
            if abs(found.create_time() - self.began) > 0.5 or found.status() == psutil.STATUS_ZOMBIE:
                return None
        except psutil.NoSuchProcess:
            return None
        return found


def start(
    command: Sequence[str | Path], log: Path, env: Mapping[str, str] | None = None, *, postgres: bool = False
) -> Started:
    """Start a program that goes on when this one ends; `postgres`: as root, as the user of that name."""
    inherited = {name: value for name, value in os.environ.items() if not name.startswith("NESTREL_")}
    who = "postgres" if postgres and os.geteuid() == 0 else None
    with log.open("ab") as out:
        process = subprocess.Popen(
            [str(word) for word in command], stdin=subprocess.DEVNULL, stdout=out, stderr=out, cwd="/",
            env={**inherited, **(env or {})}, start_new_session=True, user=who, group=who,
            extra_groups=[] if who else None,
        )  # fmt: skip
    _held.append(process)
    return Started(process.pid, psutil.Process(process.pid).create_time())


def reap() -> None:
    """Take note of those that have ended."""
    _held[:] = [process for process in _held if process.poll() is None]


def save(file: Path, started: dict[str, Started]) -> None:
    """Keep what was started, at once or not at all."""
    fresh = file.with_suffix(".new")
    fresh.write_bytes(orjson.dumps({name: asdict(one) for name, one in started.items()}))
    fresh.replace(file)


def load(file: Path) -> dict[str, Started]:
    if not file.exists():
        return {}
    return {name: Started(**one) for name, one in orjson.loads(file.read_bytes()).items()}


def _postmaster(data: Path) -> psutil.Process | None:
    """The server that runs on a folder. It is nobody's child: Patroni lets go of what it starts."""
    try:
        lines = (data / "postmaster.pid").read_text().splitlines()
        found = psutil.Process(int(lines[0]))
        return found if abs(found.create_time() - int(lines[2])) < _SLACK_SECONDS else None
    except (OSError, ValueError, IndexError, psutil.NoSuchProcess):
        return None


def tree(started: Started | None, data: Path | None) -> list[psutil.Process]:
    """All processes of a part, those that start others first."""
    found: list[psutil.Process] = []
    for root in (started.process() if started else None, _postmaster(data) if data else None):
        if root is not None:
            with contextlib.suppress(psutil.NoSuchProcess):
                found += [root, *root.children(recursive=True)]
    return found


def send(processes: Sequence[psutil.Process], number: signal.Signals) -> None:
    for process in processes:
        with contextlib.suppress(psutil.NoSuchProcess):
            process.send_signal(number)


def state(started: Started | None, data: Path | None) -> State:
    found = tree(started, data)
    statuses = []
    for process in found:
        with contextlib.suppress(psutil.NoSuchProcess):
            statuses.append(process.status())
    if not statuses:
        return State.DEAD
    return State.FROZEN if psutil.STATUS_STOPPED in statuses else State.RUNS
