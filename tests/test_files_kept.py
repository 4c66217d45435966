"""Files where processes die, where they lie elsewhere, and where many come at one time: no message without its bytes,
and after the collection no bytes without their message."""

from __future__ import annotations

import asyncio
import hashlib
import os
import subprocess
import sys
from collections.abc import AsyncIterator, Callable, Iterator
from pathlib import Path
from typing import Any
from uuid import UUID, uuid4

import asyncpg
import httpx
import psutil
import pytest

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.commands import Edit, Post, Remove
from nestrel.core.problems import InvalidRequest, OverQuota, Problem, SlowDown
from nestrel.core.rights import Action
from nestrel.files.bucket import Bucket
from nestrel.files.folder import Folder
from nestrel.files.objects import Files, FilesUnavailable
from nestrel.files.pictures import Pictures
from nestrel.local.postgres import free_port
from nestrel.service.attachments import Asking, Attachments, Sent
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.write.writer import Writer
from tests import killed_files
from tests.support import Person, Served, make_place, unique, until

_AGES_AGO = """
UPDATE nestrel.objects SET doomed_at = doomed_at - interval '1 day' WHERE doomed_at IS NOT NULL;
UPDATE nestrel.attachments SET unused_since = unused_since - interval '2 days' WHERE unused_since IS NOT NULL
"""


def on_disk(folder: Path) -> set[UUID]:
    return {UUID(path.name) for path in folder.rglob("*") if path.is_file()}


async def check_whole(raw: asyncpg.Connection[Any], folder: Path) -> None:
    """What messages have is there."""
    missing = await raw.fetch(
        "SELECT o.id FROM nestrel.attachments a JOIN nestrel.objects o ON o.id = a.object_id "
        "WHERE o.doomed_at IS NOT NULL OR o.taken"
    )
    assert missing == []
    used = {row[0] for row in await raw.fetch("SELECT object_id FROM nestrel.attachments")}
    assert used <= on_disk(folder)
    bearing = await raw.fetch(
        "SELECT t.seq FROM nestrel.attached t LEFT JOIN nestrel.attachments a "
        "ON (a.conversation_id, a.id) = (t.conversation_id, t.attachment_id) WHERE a.id IS NULL"
    )
    assert bearing == []


async def check_collected(raw: asyncpg.Connection[Any], folder: Path) -> None:
    """What is there, messages have."""
    await check_whole(raw, folder)
    held = {row[0] for row in await raw.fetch("SELECT id FROM nestrel.objects")}
    used = await raw.fetch(
        "SELECT object_id FROM nestrel.attachments UNION SELECT preview_id FROM nestrel.previews p "
        "JOIN nestrel.attachments a ON a.object_id = p.object_id"
    )
    assert held == on_disk(folder) == {row[0] for row in used}
    assert await raw.fetchval("SELECT count(*) FROM nestrel.attachments WHERE unused_since IS NOT NULL") == 0
    assert await raw.fetchval("SELECT count(*) FROM nestrel.loosened") == 0


@pytest.fixture
async def attachments(database: Database, tmp_path: Path) -> AsyncIterator[Attachments]:
    """The files of one process, without its collector."""
    kept = Attachments(database, Folder(tmp_path))
    yield kept
    await kept.stop()


@pytest.mark.whole
@pytest.mark.parametrize("point", killed_files.POINTS)
async def test_a_process_killed_at_any_point_leaves_nothing_without_the_other(
    url: str,
    database: Database,
    attachments: Attachments,
    stranger: asyncpg.Connection[Any],
    tmp_path: Path,
    point: str,
) -> None:
    place = await make_place(database, mara="owner")
    command = [sys.executable, "-m", "tests.killed_files", url, str(tmp_path), point, str(place)]
    done = await asyncio.to_thread(subprocess.run, command, capture_output=True, text=True)
    assert done.returncode == -9, done.stderr
    await check_whole(stranger, tmp_path)
    await attachments.collect()
    await check_whole(stranger, tmp_path)
    await stranger.execute(_AGES_AGO)
    await attachments.collect()
    await check_collected(stranger, tmp_path)
    bearing = await stranger.fetchval("SELECT count(*) FROM nestrel.attached")
    assert bearing == (1 if point in ("posted", "painted", "shown") else 0)
    # And all of it can be done again, as if nothing had been.
    await killed_files.all_of_it(database, attachments, place)
    await stranger.execute(_AGES_AGO)
    await attachments.collect()
    await check_collected(stranger, tmp_path)


async def _chunks(content: bytes) -> AsyncIterator[bytes]:
    yield content


async def test_posts_removals_and_collections_race_and_nothing_is_lost(
    database: Database, attachments: Attachments, stranger: asyncpg.Connection[Any], tmp_path: Path
) -> None:
    """Few contents and few names, so that the same is uploaded, posted and removed at one time, again and again."""
    place = await make_place(database, mara="owner", odd="writer")
    writer = Writer(database)
    stop = asyncio.Event()

    async def collect() -> None:
        while not stop.is_set():
            await attachments.collect()

    async def work(who: str, n: int) -> None:
        caller = Caller(who)
        for turn in range(12):
            async with database.read() as connection:
                access = await see(connection, place, caller, Action.SEE)
            content = b"tide %d" % ((n + turn) % 3) * 1_000
            kept, _ = await attachments.take(access, caller, Sent(who, f"{turn % 2}", 0, {}), _chunks(content))
            try:
                [posted] = await writer.submit([Post(place, who, "x", attachments=(kept.id,))])
            except InvalidRequest:
                continue  # its message was removed just now: it went with that, and is sent again
            assert hashlib.sha256(content).hexdigest() == kept.sha256.hex()
            async with attachments.open(await object_of(stranger, kept.id), 0, kept.size, Asking("mara")) as parts:
                assert b"".join([part async for part in parts]) == content
            seq = posted.object["seq"]
            if turn % 3 == 0:
                await writer.submit([Edit(place, who, seq, "y", attachments=())])
            elif turn % 3 == 1:
                await writer.submit([Remove(place, who, seq)])

    collecting = asyncio.create_task(collect())
    await asyncio.gather(*(work(who, n) for n, who in enumerate(("mara", "odd", "mara", "odd"))))
    stop.set()
    await collecting
    await check_whole(stranger, tmp_path)
    await stranger.execute(_AGES_AGO)
    await attachments.collect()
    await check_collected(stranger, tmp_path)


_lock = asyncio.Lock()


async def object_of(raw: asyncpg.Connection[Any], attachment_id: UUID) -> UUID:
    async with _lock:
        found: UUID = await raw.fetchval("SELECT object_id FROM nestrel.attachments WHERE id = $1", attachment_id)
    return found


@pytest.fixture(scope="module")
def bucket() -> Iterator[str]:
    """A store that speaks S3, on loopback."""
    port = free_port()
    server = subprocess.Popen(
        [sys.executable, "-m", "moto.server", "-H", "127.0.0.1", "-p", str(port)],
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    address = f"http://127.0.0.1:{port}"
    try:
        until(lambda: httpx.put(f"{address}/skerry").status_code == 200)
        yield address
    finally:
        server.terminate()
        server.wait(30)


_KEYS = {"AWS_ACCESS_KEY_ID": "test", "AWS_SECRET_ACCESS_KEY": "test", "AWS_REGION": "us-east-1"}


@pytest.fixture(params=["folder", "bucket"])
def files(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Files:
    if request.param == "folder":
        return Folder(tmp_path / "files")
    for name, value in _KEYS.items():
        monkeypatch.setenv(name, value)
    return Bucket("skerry", unique("tests"), request.getfixturevalue("bucket"))


async def test_what_is_kept_is_there_and_what_is_deleted_is_not(files: Files) -> None:
    """The same of a folder and of a bucket."""
    names, contents = [uuid4(), uuid4(), uuid4()], [b"", b"tides", bytes(range(256)) * 80_000]
    for name, content in zip(names, contents, strict=True):
        spool = await files.spool(name)
        for start in range(0, len(content), 3_000_000):
            await spool.write([content[start : start + 3_000_000]])
        await spool.keep()
        assert await files.size(name) == len(content)
        assert b"".join([part async for part in files.read(name, 0, len(content))]) == content
        with await files.local(name) as file:
            file.seek(0)
            assert file.read() == content
    middle = b"".join([part async for part in files.read(names[2], 999_999, 5_000_001)])
    assert middle == contents[2][999_999:5_000_001]
    await (await files.spool(uuid4())).discard()
    await files.delete([*names, uuid4()])
    await files.delete(names)
    for name in names:
        with pytest.raises(FilesUnavailable):
            await files.size(name)
        with pytest.raises(FilesUnavailable):
            await anext(files.read(name, 0, 5))


async def test_what_opens_pictures_reads_them_and_no_more(tmp_path: Path) -> None:
    """It dies of what it cannot bear, and is there again for the next picture."""
    pictures = Pictures()
    (tmp_path / "berth.png").write_bytes(killed_files.picture())
    with (tmp_path / "berth.png").open("r+b") as file:
        for _ in range(2):
            found = await pictures.look(file.fileno())
            assert found is not None
            assert (found.width, found.height) == (400, 300)
            [process] = [one for one in psutil.Process().children() if "nestrel.files.painter" in one.cmdline()]
            own = {Path(f"/proc/{process.pid}/fd/{n}").resolve() for n in os.listdir(f"/proc/{process.pid}/fd")}
            assert tmp_path / "berth.png" not in own
            assert process.rlimit(psutil.RLIMIT_FSIZE) == (0, 0)
            process.kill()
            assert await pictures.look(file.fileno()) is None  # it counts as broken, and nothing else happens
    pictures.end()


@pytest.mark.whole
async def test_a_service_keeps_its_files_in_a_bucket(make_database: Callable[[], str], bucket: str) -> None:
    env: dict[str, Any] = {"NESTREL_FILES": "s3://skerry/office", "NESTREL_FILES_ENDPOINT": bucket, **_KEYS}
    with Served(make_database(), **env) as served:
        served.wait_ready()
        mara = Person(served.url, unique("mara"))
        place = (await mara.make())["id"]
        one = (await mara.upload(place, killed_files.picture(), "berth.png")).json()
        assert (one["width"], one["height"]) == (400, 300)
        await mara.post(place, "", attachments=[one["attachment_id"]])
        where = f"/conversations/{place}/attachments/{one['attachment_id']}"
        got = await mara.http.get(where, headers={"Range": "bytes=5-104"})
        assert (got.status_code, got.content) == (206, killed_files.picture()[5:105])
        assert (await mara.http.get(where + "/preview")).headers["content-type"] == "image/webp"
        await mara.http.delete(f"/conversations/{place}/messages/1")
        until(lambda: b"<Key>" not in httpx.get(f"{bucket}/skerry?prefix=office").content)


async def test_a_disk_that_does_not_take_files_is_told_and_loses_nothing(
    make_database: Callable[[], str], tmp_path: Path
) -> None:
    (tmp_path / "not-a-folder").write_text("")
    with Served(make_database(), NESTREL_FILES=str(tmp_path / "not-a-folder" / "files")) as served:
        served.wait_ready()
        mara = Person(served.url, unique("mara"))
        place = (await mara.make())["id"]
        answer = await mara.upload(place, b"tides")
        assert (answer.status_code, answer.json()["type"]) == (503, "/problems/store-unavailable")
        assert answer.headers["retry-after"]
        assert (await mara.post(place, "words still go")).status_code == 201


async def test_a_caller_who_breaks_off_leaves_nothing(
    database: Database, attachments: Attachments, stranger: asyncpg.Connection[Any], tmp_path: Path
) -> None:
    place = await make_place(database, mara="owner")
    caller = Caller("mara")
    async with database.read() as connection:
        access = await see(connection, place, caller, Action.SEE)

    async def broken() -> AsyncIterator[bytes]:
        yield bytes(300_000)
        raise ConnectionError

    with pytest.raises(ConnectionError):
        await attachments.take(access, caller, Sent("mara", "x", 0, {}), broken())
    with pytest.raises(Problem):
        await attachments.take(access, caller, Sent("mara", "x", 0, {"sha-256": bytes(32)}), _chunks(b"other"))
    await attachments.collect()
    await check_collected(stranger, tmp_path)
    assert on_disk(tmp_path) == set()


async def test_a_day_has_its_bytes_and_a_backend_is_not_bound(
    database: Database, attachments: Attachments, stranger: asyncpg.Connection[Any]
) -> None:
    place = await make_place(database, mara="owner")
    async with database.read() as connection:
        access = await see(connection, place, Caller("mara"), Action.SEE)
    sent = Sent("mara", "x", 0, {})
    await attachments.take(access, Caller("mara"), sent, _chunks(b"one"))
    assert await stranger.fetchval("SELECT bytes FROM nestrel.uploaded") == 3
    await stranger.execute("UPDATE nestrel.uploaded SET bytes = 1999999998")
    await attachments.take(access, Caller("mara"), sent, _chunks(b"one"))  # the same again costs nothing
    with pytest.raises(OverQuota) as refused:
        await attachments.take(access, Caller("mara"), sent, _chunks(b"two"))
    assert refused.value.extra == {"quota": "uploads", "limit": 2_000_000_000}
    assert 0 < (refused.value.retry_after or 0) <= 86_401
    await attachments.take(access, Caller("office", service=True), sent, _chunks(b"two"))
    await stranger.execute("UPDATE nestrel.uploaded SET day = day - 1")
    await attachments.take(access, Caller("mara"), sent, _chunks(b"three"))
    await stranger.execute("UPDATE nestrel.uploaded SET day = day - 1")
    await attachments.collect()
    assert await stranger.fetchval("SELECT count(*) FROM nestrel.uploaded WHERE user_id = 'mara'") == 1


async def test_one_member_does_not_take_all_turns(database: Database, attachments: Attachments) -> None:
    place = await make_place(database, mara="owner", odd="writer")
    async with database.read() as connection:
        access = await see(connection, place, Caller("mara"), Action.SEE)
    go_on = asyncio.Event()

    async def slow() -> AsyncIterator[bytes]:
        yield b"a"
        await go_on.wait()

    waiting = [
        asyncio.create_task(attachments.take(access, Caller("mara"), Sent("mara", f"{n}", 0, {}), slow()))
        for n in range(limits.UPLOADS_EACH)
    ]
    await asyncio.sleep(0)
    with pytest.raises(SlowDown):
        await attachments.take(access, Caller("mara"), Sent("mara", "more", 0, {}), _chunks(b"a"))
    await attachments.take(access, Caller("odd"), Sent("odd", "theirs", 0, {}), _chunks(b"a"))
    go_on.set()
    assert len({kept.id for kept, _ in await asyncio.gather(*waiting)}) == limits.UPLOADS_EACH
    await attachments.take(access, Caller("mara"), Sent("mara", "more", 0, {}), _chunks(b"a"))


async def test_erasing_a_person_takes_their_files_live_archived_and_unused(make_database: Callable[[], str]) -> None:
    with Served(make_database()) as served:
        served.wait_ready()
        mara, odd = Person(served.url, unique("mara")), Person(served.url, unique("odd"))
        office = Person(served.url, unique("office"), scope="nestrel.service")
        place = (await mara.make(members=[odd.user]))["id"]
        ids = []
        for n in range(3):
            one = (await odd.upload(place, b"of odd %d" % n, f"{n}.txt")).json()
            ids.append(one["attachment_id"])
            if n < 2:
                await odd.post(place, "see", attachments=[one["attachment_id"]])
        theirs = (await mara.upload(place, b"of mara", "m.txt")).json()["attachment_id"]
        await mara.post(place, "mine", attachments=[theirs])
        rule = {"keep_last": 2, "then": "archive", "confirm": True}
        assert (await mara.http.put(f"/conversations/{place}/retention", json=rule)).status_code == 200
        await office.http.post("/retention/run")
        where = f"/conversations/{place}/attachments/"
        assert (await mara.http.get(where + ids[0])).status_code == 200  # archived, for its owner
        begun = await office.http.post("/erasures", json={"user_id": odd.user, "confirm": True})
        assert begun.status_code in (200, 201, 202), begun.text
        until(lambda: len(on_disk(served.files)) == 1)
        for who in (mara, odd, office):
            for id_ in ids:
                assert (await who.http.get(where + id_)).status_code == 404
        assert (await odd.http.get(where + theirs)).content == b"of mara"
