"""The real thing under faults for as long as asked: `script/soak --minutes N`.

Two service processes, a PostgreSQL of its own that is killed and comes back, and now and then as the backup that was
taken a while ago; lines that are cut in the middle of anything; devices that are killed, each with a replica and an
outbox; a conversation with a rule; an import and uploads that go on all the time; a webhook of everything, and one of
notices for somebody who is never there. In the end all must hold the same, once.
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path

from nestrel.client import AsyncClient, NestrelError, ReplicaState, SyncedReplica
from nestrel.local.postgres import LocalPostgres, free_port
from nestrel.store import schema
from tests.receiver import receiver
from tests.soak_beside import Import, Uploads
from tests.soaked import WATCH, check, check_files, check_import, check_notices, check_webhook, watched
from tests.support import Person, Served, token

_USERS = ("mara", "odd", "ines")
_PLACES = 3
_KEPT = 150
"""Messages that the rule of the first conversation keeps; the others are archived."""


class Proxy:
    """A port in front of both services, whose connections can be cut at any byte."""

    def __init__(self, ports: list[int], dice: random.Random) -> None:
        self._ports = ports
        self._dice = dice
        self._writers: set[asyncio.StreamWriter] = set()
        self._tasks: set[asyncio.Task[None]] = set()
        self.port = free_port()

    @asynccontextmanager
    async def open(self) -> AsyncIterator[str]:
        server = await asyncio.start_server(self._serve, "127.0.0.1", self.port)
        try:
            yield f"http://127.0.0.1:{self.port}"
        finally:
            server.close()
            self.cut()
            await asyncio.gather(*self._tasks, return_exceptions=True)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        for port in self._dice.sample(self._ports, len(self._ports)):
            try:
                there, back = await asyncio.open_connection("127.0.0.1", port)
                break
            except OSError:
                continue
        else:
            writer.close()
            return
        for source, target in ((reader, back), (there, writer)):
            task = asyncio.create_task(self._pump(source, target))
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    async def _pump(self, source: asyncio.StreamReader, target: asyncio.StreamWriter) -> None:
        self._writers.add(target)
        try:
            while data := await source.read(4096):
                target.write(data)
                await target.drain()
        except OSError:
            pass
        finally:
            self._writers.discard(target)
            target.close()

    def cut(self) -> None:
        """Cut everything that is open, wherever it is."""
        for writer in tuple(self._writers):
            writer.transport.abort()


class Device:
    """A member's device: it writes all the time, and can be killed and started again on its file."""

    def __init__(self, url: str, user: str, path: Path, places: list[str], dice: random.Random) -> None:
        self.user = user
        self.posted: list[str] = []
        self._url = url
        self._path = path
        self._places = places
        self._dice = dice
        self._stack = contextlib.AsyncExitStack()
        self.replica: SyncedReplica | None = None

    async def start(self) -> None:
        client = await self._stack.enter_async_context(AsyncClient(self._url, lambda: token(self.user), timeout=10))
        self.replica = await self._stack.enter_async_context(client.replica(self._path))

    async def stop(self) -> None:
        self.replica = None
        await self._stack.aclose()

    def act(self) -> None:
        """One thing that a member does."""
        if self.replica is None:
            return
        place, what = self._dice.choice(self._places), self._dice.random()
        held = {one.id: one.head for one in self.replica.conversations()}.get(place, 0)
        seq = self._dice.randint(1, held) if held else 0
        if what < 0.7 or not seq:
            self.posted.append(f"{self.user} {len(self.posted)}")
            self.replica.post(place, self.posted[-1])
        elif what < 0.85:
            self.replica.react(place, seq)
        elif what < 0.95:
            self.replica.edit(place, seq, f"edited {self._dice.random()}")  # refused where it is another's
        else:
            self.replica.read(place, held)


class Backup:
    """A copy of the database's files, and what was posted when they are put back."""

    def __init__(self, postgres: LocalPostgres, folder: Path) -> None:
        self.excused: set[str] = set()
        """Bodies that may be lost by a restore, and rightly so."""
        self._postgres = postgres
        self._folder = folder

    def take(self) -> None:
        shutil.rmtree(self._folder, ignore_errors=True)
        self._folder.mkdir(mode=0o700)
        if os.geteuid() == 0:
            shutil.chown(self._folder, "postgres", "postgres")
        url = self._postgres.url("postgres")
        self._postgres._run("pg_basebackup", "-D", str(self._folder), "-d", url, "-X", "stream", "-c", "fast")

    def put_back(self) -> bool:
        """False: there is none."""
        if not (self._folder / "PG_VERSION").exists():
            return False
        postgres, port = self._postgres, self._postgres.port
        postgres.stop("immediate")
        shutil.rmtree(postgres.data)
        subprocess.run(["cp", "-a", str(self._folder), str(postgres.data)], check=True)
        # Marked before any service can reach it, as an operator does.
        postgres.start(free_port())
        env = {**os.environ, "NESTREL_DATABASE_URL": postgres.url("soak")}
        subprocess.run(
            [sys.executable, "-m", "nestrel.cli", "db", "restored"], env=env, check=True, capture_output=True
        )
        postgres.stop("fast")
        postgres.start(port)
        return True


_ACTS_A_SECOND = 15
"""What devices do at least, for each second that was asked for."""


_COUNTED = ("cuts", "services killed", "databases killed")


async def soak(seconds: float, seed: int, say: Callable[[str], None], faults: int = 0) -> dict[str, int]:
    """Run for so long and for at least so many cuts and kills, then check; returns counts of what happened. Raises
    `AssertionError` when a promise broke."""
    dice = random.Random(seed)
    counts = {"messages": 0, "cuts": 0, "services killed": 0, "databases killed": 0, "devices killed": 0,
              "restores": 0, "lines imported": 0, "files": 0, "webhook requests": 0, "notices": 0}  # fmt: skip
    with tempfile.TemporaryDirectory(prefix="nestrel-soak-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        postgres = LocalPostgres(Path(folder))
        postgres.start()
        try:
            postgres.create_database("soak")
            await schema.upgrade(postgres.url("soak"))
            url = postgres.url("soak")
            with Served(url) as one, Served(url, NESTREL_FILES=str(one.files)) as other:
                services = [one.wait_ready(), other.wait_ready()]
                proxy = Proxy([served.port for served in services], dice)
                async with proxy.open() as front:
                    await _run(seconds, faults, dice, front, proxy, services, postgres, Path(folder), counts, say)
        finally:
            postgres.stop("immediate")
    return counts


async def _run(
    seconds: float,
    faults: int,
    dice: random.Random,
    url: str,
    proxy: Proxy,
    services: list[Served],
    postgres: LocalPostgres,
    folder: Path,
    counts: dict[str, int],
    say: Callable[[str], None],
) -> None:
    office, stack = Person(services[0].url, "office"), contextlib.AsyncExitStack()
    places = [(await office.make(members=[*_USERS, WATCH]))["id"] for _ in range(_PLACES)]
    devices = [Device(url, user, folder / f"{user}.db", places, dice) for user in _USERS]
    for device in devices:
        await device.start()
    backend = AsyncClient(services[0].url, lambda: token("office", scope="nestrel.service"))
    async with backend:
        await backend.set_retention(places[0], keep_last=_KEPT, then="archive")
        imported, uploads = Import(url, (await office.make())["id"]), Uploads(url, places[-1])
        hears = await stack.enter_async_context(receiver())
        await backend.make_webhook(hears.url)
        told = await stack.enter_async_context(receiver())
        await backend.make_webhook(told.url, type="notices")
    await watched(url, places[1:])
    imported.start()
    uploads.start()
    backup = Backup(postgres, folder / "backup")
    end = time.monotonic() + seconds
    next_fault = time.monotonic() + 1
    acts = 0
    # A slow machine runs longer: what was not done is not tested.
    while time.monotonic() < end or acts < _ACTS_A_SECOND * seconds or sum(map(counts.__getitem__, _COUNTED)) < faults:
        acts += 1
        dice.choice(devices).act()
        if acts % _ACTS_A_SECOND == 0:
            uploads.more.set()
        await asyncio.sleep(dice.random() * 0.05)
        if time.monotonic() > next_fault:
            await _fault(dice, proxy, services, postgres, devices, backup, counts)
            say(", ".join(f"{count} {what}" for what, count in counts.items() if count))
            next_fault = time.monotonic() + 0.5 + dice.random() * min(4.0, seconds / 5)
    await imported.stop()
    await uploads.stop()
    async with asyncio.timeout(120):
        await imported.bring()
    for device in devices:
        assert device.replica is not None
        async with asyncio.timeout(90):
            await device.replica.until(lambda one: one.state.state is ReplicaState.LIVE and one.outbox.next() is None)
    await check(services[0].url, devices, places, backup.excused, counts)
    await check_import(services[0], imported, counts)
    await check_files(services[0], uploads, counts)
    await check_webhook(services[0], hears, places, counts)
    await check_notices(services[0], told, places[1:], counts)
    await stack.aclose()
    for device in devices:
        await device.stop()
    await office.http.aclose()


async def _fault(
    dice: random.Random,
    proxy: Proxy,
    services: list[Served],
    postgres: LocalPostgres,
    devices: list[Device],
    backup: Backup,
    counts: dict[str, int],
) -> None:
    what = dice.random()
    if what < 0.04:
        await asyncio.to_thread(backup.take)
    elif what < 0.07:
        backup.excused |= {body for device in devices for body in device.posted}
        if await asyncio.to_thread(backup.put_back):
            backup.excused |= {body for device in devices for body in device.posted}
            counts["restores"] += 1
    elif what < 0.5:
        proxy.cut()
        counts["cuts"] += 1
    elif what < 0.7:
        device = dice.choice(devices)
        await device.stop()
        await device.start()
        counts["devices killed"] += 1
    elif what < 0.88:
        served = dice.choice(services)
        served.kill()
        served.restart()
        await asyncio.to_thread(served.wait_ready, "/healthz")
        counts["services killed"] += 1
    else:
        await asyncio.to_thread(postgres.stop, "immediate")
        await asyncio.sleep(dice.random())
        await asyncio.to_thread(postgres.start, postgres.port)
        counts["databases killed"] += 1


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--minutes", type=float, default=5.0, help="how long, up to 600")
    parser.add_argument("--seed", type=int, default=int(time.time()), help="what happens, and when")
    chosen = parser.parse_args()
    print(f"seed {chosen.seed}")
    try:
        counts = asyncio.run(soak(min(chosen.minutes, 600) * 60, chosen.seed, print))
    except (AssertionError, NestrelError) as error:
        raise SystemExit(f"seed {chosen.seed}: {error}") from error
    print("every promise was kept: " + ", ".join(f"{count} {what}" for what, count in counts.items()))


if __name__ == "__main__":
    main()
