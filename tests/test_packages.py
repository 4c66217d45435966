"""What is shipped: a wheel and an sdist that need nothing of this checkout, and scripts that two people may start."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tarfile
import tempfile
import venv
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest

from nestrel.local.postgres import free_port

ROOT = Path(__file__).parent.parent
SECONDS = 300  # for what installs packages or fills a database; nothing waits for its end

pytestmark = [pytest.mark.whole, pytest.mark.timeout(900)]


def run(*command: str | Path, **env: str) -> subprocess.CompletedProcess[str]:
    clean = {key: value for key, value in os.environ.items() if not key.startswith(("NESTREL_", "PYTHON", "VIRTUAL_"))}
    return subprocess.run(
        [str(part) for part in command], capture_output=True, text=True, timeout=SECONDS, cwd="/", env={**clean, **env}
    )


def done(*command: str | Path, **env: str) -> str:
    finished = run(*command, **env)
    assert finished.returncode == 0, finished.stdout + finished.stderr
    return finished.stdout


@pytest.fixture(scope="module")
def release(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("dist")
    done(ROOT / "script/build", folder)
    return folder


class Empty:
    """An environment with nothing but pip in it, and what is put into it."""

    def __init__(self, folder: Path) -> None:
        venv.create(folder, with_pip=True)
        self.bin = folder / "bin"

    def install(self, requirements: str, wheel: Path) -> None:
        pip = (self.bin / "python", "-m", "pip", "install", "--quiet", "--disable-pip-version-check")
        done(*pip, "--require-hashes", "-r", ROOT / "requirements" / requirements)
        done(*pip, "--no-deps", wheel)


@pytest.fixture(scope="module")
def empty(release: Path, tmp_path_factory: pytest.TempPathFactory) -> Empty:
    made = Empty(tmp_path_factory.mktemp("empty"))
    made.install("client.txt", next(release.glob("*.whl")))
    return made


@pytest.fixture
def data_dir() -> Iterator[Path]:
    folder = Path(tempfile.mkdtemp(prefix="nestrel-demo-"))
    folder.chmod(0o755)  # PostgreSQL's own user goes through it
    yield folder
    shutil.rmtree(folder)


def test_the_wheel_alone_is_the_client_and_the_command_line(empty: Empty) -> None:
    done(empty.bin / "python", "-m", "pip", "check")
    everything = "from nestrel.client import *; from nestrel.client import Client, AsyncClient, Importer"
    done(empty.bin / "python", "-c", everything)
    nestrel = empty.bin / "nestrel"
    assert "conversations" in done(nestrel, "--help")
    away = run(nestrel, "history", "quay", "--url", f"http://127.0.0.1:{free_port()}", NESTREL_TOKEN="t")
    assert (away.returncode, "Traceback" in away.stderr) == (3, False), away.stderr
    head = done("git", "-C", ROOT, "rev-parse", "HEAD").strip()
    assert f"commit {head[:10]})" in done(nestrel, "--version")
    assert done(nestrel, "token", "mara", NESTREL_JWT_SECRET="s" * 32).count(".") == 2
    for command in ("serve", "demo", "db status", "doctor"):
        missing = run(nestrel, *command.split())
        assert (missing.returncode, "pip install 'nestrel[service]'" in missing.stderr) == (1, True), missing.stderr


def test_the_demo_runs_from_the_wheel_twice_at_once(empty: Empty, release: Path, data_dir: Path) -> None:
    """Both on one folder: one database is started and filled, and ends with the last of them."""
    empty.install("service.txt", next(release.glob("*.whl")))
    done(empty.bin / "python", "-m", "pip", "check")
    env = {"PATH": os.environ["PATH"], "HOME": os.environ.get("HOME", "/"), "NESTREL_DATA_DIR": str(data_dir)}
    ports = [free_port() for _ in range(4)]
    demos = []
    for port, issuer in (ports[:2], ports[2:]):
        command = (empty.bin / "nestrel", "demo", "--port", str(port), "--issuer-port", str(issuer))
        demos.append(subprocess.Popen(command, stdout=subprocess.PIPE, text=True, cwd="/", env=env))
    try:
        for demo, port in zip(demos, (ports[0], ports[2]), strict=True):
            assert demo.stdout is not None
            said = next((line for line in demo.stdout if "/console/" in line), "it ended")
            assert f"http://127.0.0.1:{port}/console/" in said
            url = f"http://127.0.0.1:{port}"
            page = httpx.get(f"{url}/console/").text
            script = next(part for part in page.split('"') if part.endswith(".js"))
            assert httpx.get(f"{url}{script}").status_code == 200
            assert httpx.get(f"{url}/readyz", timeout=60).status_code == 200
        taken = run(empty.bin / "nestrel", "demo", "--port", str(ports[0]), **env)
        assert (taken.returncode, "choose another with --port" in taken.stderr) == (1, True), taken.stderr
        demos[0].send_signal(signal.SIGTERM)
        assert demos[0].wait(SECONDS) == 0
        # The other one's database is still there. Its tokens are those of the last demo that started.
        assert httpx.get(f"http://127.0.0.1:{ports[2]}/readyz", timeout=60).status_code == 200
        demos[1].send_signal(signal.SIGTERM)
        assert demos[1].wait(SECONDS) == 0
        assert not (data_dir / "postgres/postmaster.pid").exists()
    finally:
        for demo in demos:
            demo.terminate()
            demo.communicate(timeout=SECONDS)


def test_the_sdist_brings_the_built_console_and_what_it_was_built_from(release: Path) -> None:
    with tarfile.open(next(release.glob("*.tar.gz"))) as packed:
        names = {name.partition("/")[2]: name for name in packed.getnames()}
        built = packed.extractfile(names["src/nestrel/service/web/.built"])
        assert built is not None
        assert built.read() == (ROOT / "src/nestrel/service/web/.built").read_bytes()
        script = packed.getmember(names["script/setup"])
        assert script.mode & 0o100
    # The stamp is over these: with the same ones nothing is built anew where it is unpacked.
    here = {str(path.relative_to(ROOT)) for path in (ROOT / "console").rglob("*") if path.is_file()}
    assert {name for name in names if name.startswith("console/") and "." in name} >= {
        name for name in here if "node_modules" not in name and not name.endswith("schema.d.ts")
    }
    assert {"console/src/main.tsx", "requirements/dev.txt", "tests/conftest.py", "CHANGELOG.md"} <= set(names)
    assert not any("node_modules" in name or name.endswith(".pyc") for name in names)


@pytest.mark.parametrize("script", sorted(path.name for path in (ROOT / "script").iterdir() if path.is_file()))
def test_a_script_that_is_asked_for_help_does_nothing_else(script: str, tmp_path: Path) -> None:
    """In a checkout where nothing is set up: what is there afterwards is what was there before."""
    shutil.copytree(ROOT / "script", tmp_path / "script")
    said = done(tmp_path / "script" / script, "--help", PATH="/usr/bin:/bin")
    assert len(said.split()) > 5
    assert [path.name for path in tmp_path.iterdir()] == ["script"]


def test_two_set_ups_at_once_wait_for_each_other(tmp_path: Path) -> None:
    """A checkout whose set-up is slow: the second one begins when the first has ended."""
    shutil.copytree(ROOT / "script", tmp_path / "script")
    (tmp_path / "requirements").mkdir()
    (tmp_path / "requirements/dev.txt").touch()
    (tmp_path / "pyproject.toml").touch()
    (tmp_path / ".venv/bin").mkdir(parents=True)
    console = tmp_path / "script/lib/build-console"
    # Stands for what a set-up does: whoever is in it alone can take the folder away again.
    console.write_text("#!/bin/sh\nmkdir busy && python3 -c 'import os; os.sched_yield()' && rmdir busy\n")
    for name in ("pip", "python"):
        tool = tmp_path / ".venv/bin" / name
        tool.write_text(f'#!/bin/sh\n[ "$1" = -c ] && exec {sys.executable} "$@"\nexit 0\n')
        tool.chmod(0o755)
    several = [subprocess.Popen([tmp_path / "script/setup"], stderr=subprocess.PIPE, text=True) for _ in range(6)]
    for one in several:
        _, said = one.communicate(timeout=SECONDS)
        assert one.returncode == 0, said
