"""Files through the library, the command line, and the outbox of a replica."""

from __future__ import annotations

import asyncio
import hashlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from nestrel.client import AsyncClient, Expired, NotFound, ReplicaState
from nestrel.client.replica.schema import VERSION, opened
from tests.support import Person, Served, token, unique
from tests.test_attachments import picture
from tests.test_cli import Run, lines, make_run
from tests.test_outbox import killed_after

Make = Callable[..., Person]


@pytest.fixture
def run(service: Served, tmp_path: Path) -> Run:
    return make_run(service, tmp_path)


async def test_the_library_sends_and_fetches_whole_files(person: Make, tmp_path: Path) -> None:
    mara = person()
    place = (await mara.make())["id"]
    content = os.urandom(3_000_000)
    (tmp_path / "log.bin").write_bytes(content)
    told: list[tuple[int, int]] = []
    async with AsyncClient(mara.url, mara.token) as client:
        one = await client.upload(place, tmp_path / "log.bin", progress=lambda *at: told.append(at))
        assert (one.name, one.bytes, one.sha256) == ("log.bin", 3_000_000, hashlib.sha256(content).hexdigest())
        assert told[-1] == (3_000_000, 3_000_000)
        again = await client.upload(place, content, name="log.bin")
        assert again == one
        message = await client.post(place, "", attachments=[one])
        assert message.attachments == [one]
        assert b"".join([chunk async for chunk in client.attachment(place, one.attachment_id)]) == content
        (tmp_path / "in").mkdir()
        path = await client.download(place, one, tmp_path / "in")
        assert (path, path.read_bytes()) == (tmp_path / "in" / "log.bin", content)
        other = await client.download(place, one.attachment_id, tmp_path / "named.bin")
        assert other.read_bytes() == content
        with pytest.raises(FileExistsError):
            await client.download(place, one, tmp_path / "in")
        with pytest.raises(NotFound):
            await client.download(place, place, tmp_path / "nothing")
        with pytest.raises(NotFound):
            await client.preview(place, one.attachment_id)
        edited = await client.edit(place, 1, "without it", attachments=[])
        assert edited.attachments == []
        assert (await client.link(place, one.attachment_id, expires_in=5)).url.startswith(mara.url)
    assert {path.name for path in tmp_path.iterdir()} == {"log.bin", "in", "named.bin"}


def test_files_from_the_command_line(run: Run, tmp_path: Path, service: Served) -> None:
    name = unique("quay")
    run("conversations", "make", name)
    (tmp_path / "berth.png").write_bytes(picture())
    (tmp_path / "tides.txt").write_text("06:12 high\n")
    done = run("post", name, "--attach", "berth.png", "--attach", "tides.txt")
    assert (done.returncode, done.stdout) == (0, f"posted as 1 in {name}\n"), done.stderr
    shown = run("history", name).stdout
    [message] = lines(run("history", name, "--json"))
    for one in message["attachments"]:
        assert one["attachment_id"] in shown
    assert "berth.png  image/png, 640 × 400" in shown
    assert "▪ berth.png" in run("conversations", "list").stdout
    (tmp_path / "out").mkdir()
    got = run("attachments", "get", name, "1", "--into", "out")
    assert got.returncode == 0, got.stderr
    assert (tmp_path / "out" / "berth.png").read_bytes() == picture()
    again = run("attachments", "get", name, "1", "--into", "out")
    assert (again.returncode, "is there already" in again.stderr) == (1, True)
    by_id = run("attachments", "get", name, message["attachments"][1]["attachment_id"], "--into", "copy.txt")
    assert (by_id.returncode, (tmp_path / "copy.txt").read_text()) == (0, "06:12 high\n")
    small = run("attachments", "get", name, message["attachments"][0]["attachment_id"], "--preview", "320",
                "--into", "small.webp")  # fmt: skip
    assert (small.returncode, (tmp_path / "small.webp").read_bytes()[:4]) == (0, b"RIFF"), small.stderr
    assert "/v1/links/" in run("attachments", "link", name, message["attachments"][0]["attachment_id"]).stdout
    assert run("post", name, "x", "--attach", "nothing.png").returncode == 2
    assert run("attachments", "get", name, "99").returncode == 1
    run("post", name, "no files")
    assert "has no attachments" in run("attachments", "get", name, "2").stderr


def test_files_go_out_with_an_export_and_come_in_with_an_import(run: Run, tmp_path: Path, service: Served) -> None:
    name, other, bare = unique("quay"), unique("quay"), unique("quay")
    office = token(unique("office"), scope="nestrel.service")
    run("conversations", "make", name)
    (tmp_path / "berth.png").write_bytes(picture())
    for n in range(2):
        assert run("post", name, f"plan {n}" if n else "", "--attach", "berth.png").returncode == 0
    run("post", name, "words alone")
    run("retention", "set", name, "--keep-last", "2", "--then", "archive", "--yes")
    run("retention", "run", NESTREL_TOKEN=office)
    done = run("export", name, "--part", "all", "--into", "all.jsonl", "--files", "files")
    assert done.returncode == 0, done.stderr
    digest = hashlib.sha256(picture()).hexdigest()
    assert [path.name for path in (tmp_path / "files").iterdir()] == [digest]
    assert run("export", name, "--form", "csv", "--files", "files").returncode == 2
    for target in (other, bare):
        run("conversations", "make", target)
    refused = run("import", "all.jsonl", "--to", bare, NESTREL_TOKEN=office)
    assert (refused.returncode, refused.stderr.count("it has files")) == (1, 2)
    left = run("import", "all.jsonl", "--to", bare, "--without-files", NESTREL_TOKEN=office)
    assert (left.returncode, left.stderr.count("says nothing")) == (1, 1)
    for _ in range(2):
        done = run("import", "all.jsonl", "--to", other, "--files", "files", NESTREL_TOKEN=office)
        assert done.returncode == 0, done.stderr
    rows = lines(run("history", other, "--all", "--json"))
    assert [(row["body"], [one["sha256"] for one in row["attachments"]]) for row in rows] == [
        ("", [digest]), ("plan 1", [digest]), ("words alone", []),
    ]  # fmt: skip
    (tmp_path / "files" / digest).unlink()
    missing = run("import", "all.jsonl", "--to", unique("x"), "--files", "files", NESTREL_TOKEN=office)
    assert missing.returncode == 1


async def test_files_are_sent_from_an_outbox_once_there_is_a_line(own: Served, tmp_path: Path) -> None:
    mara, odd = Person(own.url, unique("mara")), Person(own.url, unique("odd"))
    place = (await mara.make(members=[odd.user]))["id"]
    (tmp_path / "berth.png").write_bytes(picture())
    async with AsyncClient(own.url, odd.token) as client, client.replica(tmp_path / "odd.db") as replica:
        async with asyncio.timeout(60):
            await replica.live()
            own.stop()
            await replica.until(lambda one: one.state.state is ReplicaState.AWAY)
            entry = replica.post(place, "", files=[tmp_path / "berth.png"])
            with pytest.raises(FileNotFoundError):
                replica.post(place, "of nothing", files=[tmp_path / "nothing.png"])
            (tmp_path / "berth.png").unlink()  # it lies in the replica now
            assert [(one.name, one.attachment_id) for one in replica.pending(place)[0].files] == [("berth.png", None)]
            assert len(replica.pending(place)) == 1
            discarded = replica.post(place, "given up", files=[tmp_path / "odd.db"])
            replica.discard(discarded)
            own.restart().wait_ready()
            replica.retry_now()
            await replica.until(lambda one: one.outbox.next() is None and one.state.state is ReplicaState.LIVE)
        [message] = replica.messages(place)
        assert (entry.key, message.attachments[0].width) == (entry.key, 640)
        [one] = (await mara.page(place))["items"]
        assert one["attachments"][0]["name"] == "berth.png"
        small = await replica.preview(message, message.attachments[0].attachment_id)
        assert small[:4] == b"RIFF"
        own.stop()
        assert await replica.preview(message, message.attachments[0].attachment_id) == small
        own.restart().wait_ready()
        replica.retry_now()
        async with asyncio.timeout(60):
            await replica.live()
            replica.remove(place, 1)
            await replica.until(lambda one: one.message(place, 1).removed_at is not None)  # type: ignore[union-attr]  # it is held
    with_nothing = opened(tmp_path / "odd.db")
    for table in ("enclosed", "previews"):
        assert with_nothing.execute(f"SELECT count(*) FROM {table}").fetchone()[0] == 0
    with_nothing.close()


_KILLED = """
import asyncio, sys
from pathlib import Path
from nestrel.client import AsyncClient

async def main():
    url, token, path, place, folder = sys.argv[1:]
    async with AsyncClient(url, token) as client, client.replica(path) as replica:
        await replica.live()
        for n in range(1000):
            file = Path(folder) / f"{n}.bin"
            file.write_bytes(n.to_bytes(4) * 100_000)
            replica.post(place, f"{n}", files=[file, file])
            file.unlink()
            print(n, flush=True)
            await asyncio.sleep(0)

asyncio.run(main())
"""


async def test_files_in_an_outbox_outlive_its_process(person: Make, tmp_path: Path) -> None:
    mara = person()
    place = (await mara.make())["id"]
    path, written = tmp_path / "killed.db", 0
    for turn in range(2):
        killed_after(4 + 4 * turn, _KILLED, mara.url, mara.token, str(path), place, str(tmp_path))
        written += 4 + 4 * turn
    async with AsyncClient(mara.url, mara.token) as client, client.replica(path) as replica:
        async with asyncio.timeout(120):
            await replica.until(lambda one: one.state.state is ReplicaState.LIVE and one.outbox.next() is None)
        rows: list[dict[str, Any]] = (await mara.page(place, order="asc", limit=200))["items"]
        assert len(rows) >= written
        turns: list[list[int]] = []
        for row in rows:
            n = int(row["body"])
            if n == 0:
                turns.append([])
            turns[-1].append(n)
            [one] = row["attachments"]  # the same file twice is one attachment
            assert one["sha256"] == hashlib.sha256(n.to_bytes(4) * 100_000).hexdigest()
        assert all(turn == list(range(len(turn))) for turn in turns)


async def test_files_that_are_refused_or_gone_meanwhile(own: Served, tmp_path: Path) -> None:
    mara = Person(own.url, unique("mara"))
    place = (await mara.make())["id"]
    large = tmp_path / "large.bin"
    large.write_bytes(bytes(25_000_001))
    (tmp_path / "small.txt").write_text("tides")
    async with AsyncClient(own.url, mara.token) as client, client.replica(tmp_path / "m.db") as replica:
        async with asyncio.timeout(60):
            await replica.live()
            replica.post(place, "too much", files=[large])
            await replica.until(lambda one: bool(one.refused()))
            assert (replica.refused()[0].problem or {})["type"] == "/problems/too-large"
            replica.discard(replica.refused()[0])
            # What was uploaded long ago, and was collected before its post got through, is uploaded again.
            own.stop()
            await replica.until(lambda one: one.state.state is ReplicaState.AWAY)
            entry = replica.post(place, "late", files=[tmp_path / "small.txt"])
            with replica.file.write() as connection:
                connection.execute("UPDATE enclosed SET attachment = ? WHERE entry = ?", (place, entry.n))
            own.restart().wait_ready()
            replica.retry_now()
            await replica.until(lambda one: one.outbox.next() is None and one.state.state is ReplicaState.LIVE)
        [message] = replica.messages(place)
        assert [one.name for one in message.attachments] == ["small.txt"]
        with pytest.raises((NotFound, Expired)):
            await client.download(place, place)


def test_a_replica_of_before_there_were_files_is_brought_to_date(tmp_path: Path) -> None:
    path = tmp_path / "old.db"
    connection = opened(path)
    connection.execute(
        "INSERT INTO outbox (conversation_id, kind, key, content, at) VALUES ('c', 'post', 'k', '{\"body\":\"b\"}', "
        "'2026-11-01T00:00:00Z')"
    )
    connection.executescript("DROP TABLE enclosed; DROP TABLE previews; PRAGMA user_version = 2")
    connection.close()
    connection = opened(path)
    assert connection.execute("PRAGMA user_version").fetchone()[0] == VERSION
    assert connection.execute("SELECT count(*) FROM outbox").fetchone()[0] == 1
    assert connection.execute("SELECT count(*) FROM enclosed").fetchone()[0] == 0
    connection.close()
