"""What tests share: the service as a process, and members who speak to it."""

from __future__ import annotations

import asyncio
import gzip
import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, ClassVar, TypeVar
from urllib.parse import quote
from uuid import UUID, uuid4

import httpx
from sqlalchemy.engine import make_url
from websockets.asyncio.client import ClientConnection, connect

from nestrel.core.callers import Caller
from nestrel.core.conversations import NewConversation
from nestrel.core.ids import uuid7
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.roles import Kind, Role, Visibility, direct_pair
from nestrel.local.postgres import LocalPostgres, free_port
from nestrel.service.minting import mint
from nestrel.store import schema
from nestrel.store.database import Database
from nestrel.store.write import conversations
from tests.forked import Forked, nestrel

Found = TypeVar("Found")

PATIENCE = 120.0
"""Seconds after which a condition that a test waits for is taken for one that never comes. Nothing measures time by it:
with eight busy processes beside it on two cores, two workers were ready after 17 s instead of 3."""
SECRET = "a secret of the tests that is long enough for every HMAC that anyone might sign with"


def token(user: str, *, seconds: int = 3600, secret: str = SECRET, **claims: Any) -> str:
    return mint(secret, user, seconds=seconds, now=claims.pop("iat", int(time.time())), **claims)


def unique(word: str) -> str:
    return f"{word}-{uuid4().hex[:10]}"


async def make_place(database: Database, **roles: str) -> UUID:
    """A group at the store's own door, with members of these roles; the first made it."""
    return await _make(database, Kind.GROUP, roles)


async def make_pair(database: Database, one: str, other: str) -> UUID:
    """A direct conversation of two at the store's own door."""
    return await _make(database, Kind.DIRECT, {one: "writer", other: "writer"})


async def _make(database: Database, kind: Kind, roles: Mapping[str, str]) -> UUID:
    pair = direct_pair(*roles) if kind is Kind.DIRECT else None
    new = NewConversation(
        uuid7(1, os.urandom(10)), kind, Visibility.CLOSED, None, "", None, pair, next(iter(roles)),
        datetime(2026, 1, 1, tzinfo=UTC), [(user_id, Role(role)) for user_id, role in roles.items()],
    )  # fmt: skip
    made, _ = await conversations.make(database, new, Caller(new.created_by), DEFAULT_QUOTAS)
    return made


async def doctor(database_url: str, **env: str) -> dict[str, tuple[bool, str]]:
    """What `nestrel doctor` finds, by what it looked at."""
    given = {name: value for name, value in os.environ.items() if not name.startswith("NESTREL_")}
    settings = {"NESTREL_DATABASE_URL": database_url, "NESTREL_JWT_SECRET": SECRET, **env}
    done = await asyncio.to_thread(nestrel, "doctor", "--json", env={**given, **settings}, seconds=PATIENCE)
    return {line["check"]: (line["ok"], line["detail"]) for line in map(json.loads, done.stdout.splitlines())}


@asynccontextmanager
async def own_cluster(name: str, **settings: Any) -> AsyncIterator[LocalPostgres]:
    """A durable PostgreSQL that may be killed, with a database of that name and the schema in it."""
    with tempfile.TemporaryDirectory(prefix=f"nestrel-{name}-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)  # the postgres user must get in
        postgres = LocalPostgres(Path(folder), **settings)
        postgres.start()
        try:
            postgres.create_database(name)
            await schema.upgrade(postgres.url(name))
            yield postgres
        finally:
            postgres.stop("immediate")


class Served:
    """A service process of the test's own. Ended by its pid; what it logged is at hand. It is a fork of one that has
    imported the service; with `anew` it is a new process, where its memory or its start is what is looked at."""

    def __init__(
        self, database_url: str, *, workers: int = 1, port: int | None = None, anew: bool = False, **env: str
    ) -> None:
        self.port = port or free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        handle, name = tempfile.mkstemp(prefix="nestrel-log-")
        self._log = Path(name)
        os.close(handle)
        self._folder = tempfile.TemporaryDirectory(prefix="nestrel-files-", ignore_cleanup_errors=True)
        self.files = Path(self._folder.name)
        settings = {
            "NESTREL_DATABASE_URL": database_url,
            "NESTREL_JWT_SECRET": SECRET,
            "NESTREL_FILES": str(self.files),
            **env,
        }
        if "NESTREL_JWT_SECRET_FILE" in env:
            del settings["NESTREL_JWT_SECRET"]
        inherited = {name: value for name, value in os.environ.items() if not name.startswith("NESTREL_")}
        self._env = {**inherited, **settings}
        self._workers = workers
        self._anew = anew
        self.process = self._start()

    def _start(self) -> subprocess.Popen[bytes] | Forked:
        command = ["serve", "--port", str(self.port), "--workers", str(self._workers)]
        if not self._anew:
            return Forked(command, self._env, self._log, self._log)
        with self._log.open("ab") as log:
            return subprocess.Popen(
                [sys.executable, "-m", "nestrel.cli", *command], env=self._env, stdout=log, stderr=log
            )

    def restart(self) -> Served:
        """Start anew, at the same address, after it was stopped or killed."""
        self.process = self._start()
        return self

    def log(self) -> str:
        return self._log.read_text()

    def wait_ready(self, path: str = "/readyz") -> Served:
        def ready() -> bool:
            assert (code := self.process.poll()) is None, f"the service has ended with {code}\n{self.log()[-3000:]}"
            return httpx.get(self.url + path, timeout=5).status_code == 200

        until(ready, explain=self.log)
        return self

    def stop(self) -> int:
        if self.process.poll() is None:
            self.process.terminate()
        return self.process.wait(PATIENCE)

    def __enter__(self) -> Served:
        return self

    def __exit__(self, *_: object) -> None:
        self.stop()
        self._log.unlink()
        self._folder.cleanup()

    def kill(self) -> None:
        self.process.kill()
        self.process.wait(PATIENCE)


def until(condition: Callable[[], bool], *, seconds: float = PATIENCE, explain: Callable[[], str] = str) -> None:
    """Wait for a condition; a service that does not answer yet counts as not yet."""
    deadline = time.monotonic() + seconds
    while True:
        try:
            if condition():
                return
        except httpx.HTTPError:
            pass
        if time.monotonic() > deadline:
            raise AssertionError(f"not so within {seconds} s\n{explain()[-3000:]}")
        time.sleep(0.02)


async def once(look: Callable[[], Awaitable[Found]], enough: Callable[[Found], bool]) -> Found:
    """What is found by looking again and again, once it is enough."""
    deadline = time.monotonic() + PATIENCE
    while not enough(found := await look()):
        assert time.monotonic() < deadline, f"not so within {PATIENCE} s: {str(found)[:3000]}"
        await asyncio.sleep(0.02)
    return found


class Person:
    """A member who speaks raw HTTP, and opens raw WebSockets; closed after the test by a fixture."""

    opened: ClassVar[list[Person]] = []

    def __init__(self, url: str, user: str, **claims: Any) -> None:
        self.user = user
        self.url = url
        self.token = token(user, **claims)
        self.opened.append(self)
        self.http = httpx.AsyncClient(
            base_url=url + "/v1", headers={"Authorization": f"Bearer {self.token}"}, timeout=PATIENCE
        )

    async def make(self, **fields: Any) -> dict[str, Any]:
        answer = await self.http.post("/conversations", json=fields)
        assert answer.status_code == 201, answer.text
        made: dict[str, Any] = answer.json()
        return made

    async def post(
        self, conversation: str, body: str = "hello", key: str | None = None, **fields: Any
    ) -> httpx.Response:
        headers = {b"Idempotency-Key": key.encode()} if key is not None else {}
        return await self.http.post(
            f"/conversations/{conversation}/messages", json={"body": body, **fields}, headers=headers
        )

    async def fill(self, conversation: str, count: int, prefix: str = "m") -> None:
        """Post `count` numbered messages in batches."""
        for start in range(0, count, 500):
            messages = [{"key": uuid4().hex, "body": f"{prefix}{n + 1}"} for n in range(start, min(count, start + 500))]
            answer = await self.http.post(f"/conversations/{conversation}/messages/batch", json={"messages": messages})
            assert answer.status_code == 200, answer.text

    async def upload(
        self, conversation: str, content: bytes, name: str | None = "file.bin", **headers: str
    ) -> httpx.Response:
        """Send a file; `headers` with underscores for hyphens."""
        sent = {key.replace("_", "-"): value for key, value in headers.items()}
        if name is not None:
            sent["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(name, safe='')}"
        return await self.http.post(f"/conversations/{conversation}/attachments", content=content, headers=sent)

    async def page(self, conversation: str, **query: Any) -> dict[str, Any]:
        answer = await self.http.get(f"/conversations/{conversation}/messages", params=query)
        assert answer.status_code == 200, answer.text
        page: dict[str, Any] = answer.json()
        return page

    @asynccontextmanager
    async def socket(self, *, header: bool = False) -> AsyncIterator[Wire]:
        headers = {"Authorization": f"Bearer {self.token}"} if header else None
        async with connect("ws" + self.url[4:] + "/v1/live", additional_headers=headers, max_size=None) as raw:
            wire = Wire(raw)
            if not header:
                await wire.send(type="sign_in", token=self.token)
            wire.signed_in = await wire.get()
            assert wire.signed_in["type"] == "signed_in"
            yield wire


class Wire:
    """A raw WebSocket with frames as dictionaries; what is not waited for is kept in order."""

    def __init__(self, raw: ClientConnection) -> None:
        self.raw = raw
        self._ref = 0
        self.signed_in: dict[str, Any] = {}
        self.kept: list[dict[str, Any]] = []

    async def send(self, **frame: Any) -> None:
        await self.raw.send(json.dumps(frame))

    async def get(self, seconds: float = PATIENCE, *, checkpoints: bool = False) -> dict[str, Any]:
        """The next frame that comes. A checkpoint may come between any two, and is passed over unless it is wanted."""
        while True:
            frame = self.kept.pop(0) if self.kept else await self._receive(seconds)
            if checkpoints or frame["type"] != "checkpoint":
                return frame

    async def _receive(self, seconds: float = PATIENCE) -> dict[str, Any]:
        frame: dict[str, Any] = json.loads(await asyncio.wait_for(self.raw.recv(), seconds))
        return frame

    async def command(self, **frame: Any) -> dict[str, Any]:
        """Send a command and return its answer; other frames are kept for `get`."""
        self._ref += 1
        await self.send(ref=self._ref, **frame)
        others: list[dict[str, Any]] = []
        while True:
            answer = await self.get(checkpoints=True)
            if answer.get("ref") == self._ref:
                self.kept = others + self.kept
                return answer
            others.append(answer)

    async def messages(self, count: int) -> list[dict[str, Any]]:
        """Messages from change sets, until there are `count`."""
        found: list[dict[str, Any]] = []
        while len(found) < count:
            frame = await self.get()
            assert frame["type"] == "changes", frame
            found += frame["messages"]
        return found

    async def quiet(self) -> None:
        """Assert that nothing else comes: an answer to a command made now overtakes nothing that was sent before."""
        answer = await self.command(type="unfollow", conversation_id=str(uuid4()))
        assert answer["type"] == "done"
        assert [frame for frame in self.kept if frame["type"] != "checkpoint"] == []


def program(database_url: str, *command: str, said: str | None = None) -> str:
    """What one of PostgreSQL's programs says of a database."""
    url = make_url(database_url)
    env = {**os.environ, "PGPASSWORD": str(url.password)}
    where = ["-h", str(url.host), "-p", str(url.port), "-U", str(url.username), "-d", str(url.database)]
    done = subprocess.run([*command, *where], input=said, capture_output=True, check=False, text=True, env=env)
    assert done.returncode == 0, done.stderr[-3000:]
    return done.stdout


def dump(served: Served) -> str:
    """All rows of a service's database as text."""
    return program(served._env["NESTREL_DATABASE_URL"], "pg_dump", "--data-only", "--inserts")


def traces(served: Served, word: str) -> tuple[list[str], list[Path]]:
    """Where a word still stands: lines of a dump, the archive's too, and files."""
    rows = []
    for line in dump(served).splitlines():
        if line.startswith("INSERT INTO nestrel.archive_segments"):
            line = gzip.decompress(bytes.fromhex(line.rpartition("'\\x")[2].partition("'")[0])).decode()
        if word in line:
            rows.append(line[:300])
    return rows, [path for path in served.files.rglob("*") if path.is_file() and word.encode() in path.read_bytes()]


async def call(who: Person, method: str, path: str, body: Any = None, status: int | None = None) -> httpx.Response:
    """A request of somebody; `status` is what it has to be answered with."""
    answer = await who.http.request(method, path, json=body)
    assert status is None or answer.status_code == status, (path, answer.status_code, answer.text)
    return answer
