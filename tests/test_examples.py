"""Every example of the README and of docs/, run as it stands against a demo; none may complain."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import pytest
from sqlalchemy.engine import make_url

from nestrel.local.postgres import LocalPostgres, free_port
from tests.support import SECRET, until

ROOT = Path(__file__).parent.parent
TRANSACTION = str(ROOT / "docs/transaction.md")
_WITH_PROGRAMS = ("README.md", TRANSACTION, str(ROOT / "docs/webhooks.md"))  # that one by tests/test_cli_webhooks.py
_BLOCK = re.compile(r"^```(\w*)\n(.*?)^```$", re.MULTILINE | re.DOTALL)
_DRAWN = {"mermaid", "json"}  # a drawing; and what goes over a wire, which tests/test_reconnection.py replays
_OF_THE_CHECKOUT = "script/demo "  # the two commands, which are how this test is run
_SECONDS = 300

pytestmark = [pytest.mark.whole, pytest.mark.timeout(600)]


def blocks(name: str) -> list[tuple[str, str]]:
    return [(found[1], found[2]) for found in _BLOCK.finditer((ROOT / name).read_text())]


README = [text for kind, text in blocks("README.md") if kind not in _DRAWN and not text.startswith(_OF_THE_CHECKOUT)]


class Demo:
    """`nestrel demo` in an empty folder, and a shell beside it."""

    def __init__(self, folder: Path, database_url: str) -> None:
        self.folder = folder
        self.database_url = database_url
        self.url = f"http://127.0.0.1:{free_port()}"
        inherited = {name: value for name, value in os.environ.items() if not name.startswith("NESTREL_")}
        self.env = {
            **inherited,
            "PATH": f"{Path(sys.executable).parent}:{os.environ['PATH']}",
            "NESTREL_DATA_DIR": str(folder / "data"),
            "NESTREL_URL": self.url,
        }
        stand_ins = str(free_port())
        self.stand_ins = f"http://127.0.0.1:{stand_ins}"
        command = ["nestrel", "demo", "--port", self.url.rpartition(":")[2], "--issuer-port", stand_ins]
        self.process = subprocess.Popen(
            command, env={**self.env, "NESTREL_DATABASE_URL": database_url}, stdout=subprocess.PIPE, text=True
        )
        assert self.process.stdout is not None
        assert any("/console/" in line for line in self.process.stdout)

    def run(self, *command: str, said: str = "", **env: str) -> str:
        """Run a program to its end; what it writes to standard error is a fault, as is another exit code than 0."""
        done = subprocess.run(
            command, env={**self.env, **env}, cwd=self.folder, input=said, capture_output=True, text=True,
            timeout=_SECONDS,
        )  # fmt: skip
        assert (done.returncode, done.stderr) == (0, ""), done.stdout + done.stderr
        return done.stdout

    def shell(self, text: str, said: str = "", **env: str) -> str:
        """Run lines as somebody types them: what follows is ended with Ctrl+C once it has shown something."""
        prelude = """
            nestrel() {
                if [ "$1" != follow ]; then command nestrel "$@"; return; fi
                : > followed  # looked into before its writer has begun
                command nestrel "$@" > followed 2>&1 & local pid=$!
                until grep -q "Still here" followed; do command nestrel post control-room "Still here." > posted; done
                kill -INT $pid; { wait $pid || [ $? = 130 ]; } 2> ended
            }
            set -e; set -m
        """
        return self.run("bash", "-c", prelude + text.replace("http://127.0.0.1:8460", self.url), said=said, **env)


@pytest.fixture(scope="module")
def demo(make_database: Callable[[], str], tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    started = Demo(tmp_path_factory.mktemp("examples"), make_database())
    yield started
    started.process.terminate()
    started.process.communicate(timeout=_SECONDS)
    assert started.process.returncode == 0


def test_every_example_is_of_a_kind_that_is_run() -> None:
    for name in ("README.md", "CONTRIBUTING.md", "CHANGELOG.md", *(str(p) for p in (ROOT / "docs").glob("*.md"))):
        kinds = {kind for kind, _ in blocks(name)}
        assert kinds <= ({"", "python", *_DRAWN} if name in _WITH_PROGRAMS else {"", *_DRAWN}), name
    assert sum("import" in text for text in README) >= 2


@pytest.mark.parametrize("number", range(len(README)))
def test_an_example_of_the_readme(demo: Demo, number: int, tmp_path: Path) -> None:
    text = README[number]
    if "import " in text and "nestrel import" not in text:
        program = tmp_path / "example.py"
        program.write_text(text.replace("http://127.0.0.1:8460", demo.url))
        assert demo.run(sys.executable, "-W", "error", str(program))
    elif "nestrel serve" in text:
        with _durable() as url:
            _run_the_service(demo, text, url)
    else:
        token = demo.run("nestrel", "token", "mara").strip()
        demo.shell(text, said="y\n" * 3, NESTREL_TOKEN=token)


def test_the_booking_and_its_message_are_both_there_or_neither(demo: Demo, tmp_path: Path) -> None:
    text = "\n".join(
        text for kind, text in blocks(TRANSACTION) if kind == "python"
    )  # the second goes on from the first
    program = tmp_path / "example.py"
    program.write_text(text)
    address = make_url(demo.database_url).set(drivername="postgresql+psycopg").render_as_string(hide_password=False)
    said = demo.run(sys.executable, "-W", "error", str(program), OFFICE_DATABASE_URL=address)
    assert said == "refused: IntegrityError\n"
    token = demo.run("nestrel", "token", "mara").strip()

    def bodies() -> list[str]:
        shown = demo.run("nestrel", "history", "control-room", "-n", "5", "--json", NESTREL_TOKEN=token)
        return [body for body in re.findall(r'"body":\s*"([^"]*)"', shown) if "has berth" in body]

    until(lambda: bool(bodies()))
    assert bodies() == ["MV Selkie has berth 3 on 2026-12-01."]
    office = demo.run("nestrel", "token", "office").strip()

    def made() -> list[str]:
        shown = demo.run("nestrel", "history", "berth-4", "--json", NESTREL_TOKEN=office)
        return re.findall(r'"body":\s*"([^"]*)"', shown)

    until(lambda: "berth-4" in demo.run("nestrel", "conversations", "list", NESTREL_TOKEN=office))
    until(lambda: bool(made()))
    assert made() == ["MV Corran has berth 4."]


def test_notices_are_set_and_come_to_the_handset(demo: Demo) -> None:
    [lines, make, looks] = [text for kind, text in blocks(str(ROOT / "docs/notices.md")) if kind == ""]
    mara, odd = (demo.run("nestrel", "token", user).strip() for user in ("mara", "odd"))
    said = demo.shell(lines, NESTREL_TOKEN=mara).splitlines()
    assert said[-1] == "everything, from now on"
    office = demo.run("nestrel", "token", "office", "--service").strip()
    make = make.strip().replace("https://office.skerry.example/notices", "http://127.0.0.1:9/")
    demo.shell(f"{make} 2> made", NESTREL_TOKEN=office)
    assert "notices" in demo.run("nestrel", "webhooks", "list", NESTREL_TOKEN=office)
    demo.run("nestrel", "post", "berth-log", "Ramp down at berth 2.", NESTREL_TOKEN=odd)
    handset = looks.split()[2].replace("http://127.0.0.1:8461", demo.stand_ins)
    until(lambda: "Ramp down at berth 2." in httpx.get(handset).text)
    listed = demo.run("nestrel", "notices", "devices", "--json", NESTREL_TOKEN=mara)
    assert json.loads(listed)["endpoint"] == handset
    demo.run("nestrel", "notices", "forget", json.loads(listed)["subscription_id"], NESTREL_TOKEN=mara)
    assert "no device" in demo.run("nestrel", "notices", "devices", NESTREL_TOKEN=mara)


@contextmanager
def _durable() -> Iterator[str]:
    """A database of a server that waits for its disk, as an operator's does; `nestrel doctor` looks."""
    with tempfile.TemporaryDirectory(prefix="nestrel-operator-", ignore_cleanup_errors=True) as folder:
        Path(folder).chmod(0o755)  # the postgres user must get in
        postgres = LocalPostgres(Path(folder))
        postgres.start()
        try:
            postgres.create_database("operator")
            yield postgres.url("operator")
        finally:
            postgres.stop("immediate")


def _run_the_service(demo: Demo, text: str, url: str) -> None:
    """The lines of an operator: each is run, `serve` until the end of all."""
    port = str(free_port())
    assert "postgresql://user@host:5432/nestrel" in text
    text = text.replace("postgresql://user@host:5432/nestrel", url).replace("SECRET=...", f"SECRET='{SECRET}'")
    text = text.replace("8460", port)
    lines = [line for line in text.splitlines() if not line.startswith("nestrel serve")]
    served = next(line for line in text.splitlines() if line.startswith("nestrel serve"))
    env = {"NESTREL_DATABASE_URL": url, "NESTREL_JWT_SECRET": SECRET}
    demo.shell("\n".join(line for line in lines if "doctor" not in line))
    service = subprocess.Popen(
        served.split(), env={**demo.env, **env}, cwd=demo.folder, stderr=subprocess.PIPE, text=True
    )
    try:
        until(lambda: httpx.get(f"http://127.0.0.1:{port}/readyz", timeout=5).status_code == 200)
        demo.shell("\n".join(line for line in lines if "export" in line or "doctor" in line), NESTREL_PORT=port)
    finally:
        service.terminate()
        service.communicate(timeout=_SECONDS)
