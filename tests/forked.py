"""Commands in processes of their own that need not import anything: each is a fork of one process that has done so.

A new process would spend two seconds of the processor on it for a service, and half a second for a command."""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from multiprocessing.context import ForkServerProcess
from pathlib import Path

_FORKS = multiprocessing.get_context("forkserver")
_FORKS.set_forkserver_preload(["tests.preloaded"])


class Forked:
    """A `nestrel` command under way, with the part of `subprocess.Popen` that tests use. What it writes is appended to
    the two files, which may be one."""

    def __init__(
        self,
        arguments: Sequence[str],
        env: Mapping[str, str],
        stdout: Path,
        stderr: Path,
        *,
        stdin: Path | None = None,
        cwd: Path | None = None,
    ) -> None:
        files = (str(stdin or os.devnull), str(stdout), str(stderr))
        self._process: ForkServerProcess = _FORKS.Process(
            target=_become, args=(list(arguments), dict(env), files, str(cwd or Path.cwd()))
        )
        self._process.start()
        assert self._process.pid is not None
        self.pid = self._process.pid

    @property
    def returncode(self) -> int | None:
        """What it ended with, once it has; a signal's number below 0."""
        return self._process.exitcode

    def poll(self) -> int | None:
        return self._process.exitcode

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its end. Raises `subprocess.TimeoutExpired` as `Popen` does."""
        self._process.join(timeout)
        code = self._process.exitcode
        if code is None:
            raise subprocess.TimeoutExpired("nestrel", timeout or 0)
        return code

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, number)

    def terminate(self) -> None:
        self.send_signal(signal.SIGTERM)

    def kill(self) -> None:
        self.send_signal(signal.SIGKILL)


def nestrel(
    *arguments: str, env: Mapping[str, str], stdin: str | None = None, cwd: Path | None = None, seconds: float
) -> subprocess.CompletedProcess[str]:
    """What a `nestrel` command does. Raises `subprocess.TimeoutExpired`, having ended it, after so many seconds."""
    with tempfile.TemporaryDirectory(prefix="nestrel-command-") as folder:
        given, out, err = (Path(folder) / name for name in ("in", "out", "err"))
        given.write_text(stdin or "")
        command = Forked(arguments, env, out, err, stdin=given, cwd=cwd)
        try:
            code = command.wait(seconds)
        except subprocess.TimeoutExpired:
            command.kill()
            raise
        return subprocess.CompletedProcess(arguments, code, out.read_text(), err.read_text())


def _become(arguments: list[str], env: dict[str, str], files: tuple[str, str, str], cwd: str) -> None:
    """What a fork does: it is the command, as a new process would be."""
    os.environ.clear()
    os.environ.update(env)
    os.chdir(cwd)
    for stream, name in enumerate(files):
        opened = os.open(name, os.O_RDONLY if stream == 0 else os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600)
        os.dup2(opened, stream)
        if opened != stream:
            os.close(opened)
    sys.stdin = open(0, encoding="utf-8", closefd=False)  # noqa: SIM115 - it is there until the process ends
    sys.argv = ["nestrel", *arguments]
    from nestrel.cli.main import main

    with contextlib.suppress(BrokenPipeError):
        main(prog_name="nestrel")
