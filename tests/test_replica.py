"""The replica in its file, its outbox, and the machine that keeps both right through cuts and kills."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from nestrel.client import AsyncClient, NotAReplica, ReplicaState, SyncedReplica
from nestrel.client.replica.reading import Reading
from nestrel.client.replica.store import ReplicaFile
from nestrel.core.objects import ChangeSet
from nestrel.core.replica import Replica
from nestrel.local.postgres import free_port
from tests.support import PATIENCE, Person, Served, unique

Make = Callable[..., Person]


def message(seq: int, rev: int, body: str = "", author: str = "mara", removed: bool = False) -> dict[str, Any]:
    at = "2026-11-25T10:00:00.000000Z"
    return {
        "conversation_id": "c", "seq": seq, "rev": rev, "author_id": author, "body": body, "format": "plain",
        "attributes": {}, "reply_to": None, "created_at": at, "edited_at": None, "edits": 0,
        "removed_at": at if removed else None, "removed_by": None, "reactions": [], "attachments": [],
    }  # fmt: skip


def member(user: str, rev: int, read_seq: int = 0, left: bool = False) -> dict[str, Any]:
    at = "2026-11-25T10:00:00.000000Z"
    return {
        "user_id": user, "role": "writer", "joined_at": at, "left_at": at if left else None, "read_seq": read_seq,
        "read_at": None, "rev": rev,
    }  # fmt: skip


@st.composite
def change_sets(draw: st.DrawFn) -> list[dict[str, Any]]:
    """What a service might send of one conversation, with repeats: each row's rev grows with its content."""
    sets, rev, head, floor = [], 0, 0, 1
    for _ in range(draw(st.integers(1, 8))):
        reset = draw(st.booleans()) and draw(st.booleans())
        seqs = draw(st.sets(st.integers(floor, head + 4), max_size=6))
        rows = []
        for seq in sorted(seqs):
            rev += 1
            rows.append(message(seq, rev, f"body {rev}", draw(st.sampled_from(["mara", "odd"])), draw(st.booleans())))
        head = max([head, *seqs])
        floor = draw(st.integers(floor, min(floor + 2, head + 1)))
        people = []
        for user in draw(st.sets(st.sampled_from(["mara", "odd", "ines"]))):
            rev += 1
            people.append(member(user, rev, draw(st.integers(0, head)), draw(st.booleans())))
        profiles = {"odd": {"user_id": "odd", "display_name": f"Odd {rev}", "picture": None, "rev": rev}}
        sets.append({
            "conversation_id": "c", "base": None, "cursor": f"at {rev}", "head": head, "floor": floor, "reset": reset,
            "more": False, "conversation": None, "messages": [row for row in rows if row["seq"] >= floor],
            "members": people, "profiles": profiles,
        })  # fmt: skip
        if draw(st.booleans()):
            sets.append(sets[draw(st.integers(max(0, len(sets) - 3), len(sets) - 1))])
    return sets


@settings(max_examples=150)
@given(sets=change_sets())
def test_the_file_and_the_core_hold_the_same(sets: list[dict[str, Any]]) -> None:
    """One rule in two places: what a replica in memory holds after any change sets, the file holds too."""
    core, file = Replica("c"), ReplicaFile(":memory:")
    reading = Reading(file)
    file.claim("http://here", "odd")
    for one in sets:
        core.apply(ChangeSet.model_validate(one))
        file.apply(one)
        assert reading.messages("c", limit=1_000) == core.ordered()
        assert reading.members("c") == core.present()
        assert reading.holes("c") == core.holes()
        assert reading.unread("c") == core.unread("odd")
        assert reading.profiles(["odd"])["odd"].display_name == core.name_of("odd")
        held = [row for row in core.ordered() if row.body]
        if held:
            assert held[0] in reading.search(held[0].body, "c", limit=1_000)
    file.close()


async def test_a_file_opens_with_no_network_and_shows_what_it_held(person: Make, tmp_path: Path) -> None:
    mara = person()
    place = (await mara.make(name=unique("quay"), title="Quay talk"))["id"]
    await mara.fill(place, 180, "Tide ")
    path = tmp_path / "held.db"
    async with AsyncClient(mara.url, mara.token) as client, client.replica(path) as replica:
        async with asyncio.timeout(PATIENCE):
            await replica.live()
        assert [one.seq for one in replica.messages(place)] == list(range(131, 181))
        assert replica.holes(place) == [(1, 130)]
        assert await replica.older(place) == 50
        assert replica.holes(place) == [(1, 80)]
        assert await replica.older(place, limit=200) == 80
        assert await replica.older(place) == 0
    async with AsyncClient(f"http://127.0.0.1:{free_port()}", mara.token) as client:
        away = client.replica(path)
        assert [one.seq for one in away.messages(place, limit=500)] == list(range(1, 181))
        (held,) = away.conversations()
        assert (held.title, held.head, held.my_role, held.unread) == ("Quay talk", 180, "owner", 0)
        assert away.conversation((held.name or "").upper()).id == place
        assert [one.seq for one in away.search("tide 17")] == [179, 178, 177, 176, 175, 174, 173, 172, 171, 170, 17]
        assert away.search('"') == []
        away.file.close()
    async with AsyncClient(f"http://127.0.0.1:{free_port()}", mara.token) as client, client.replica(path) as away:
        async with asyncio.timeout(PATIENCE):
            await away.until(lambda one: one.state.state is ReplicaState.AWAY and "no line" in one.state.reason)
        away.post(place, "written at sea")
        assert [one.content["body"] for one in away.pending(place)] == ["written at sea"]


async def test_a_copy_that_begins_anew_takes_no_page_of_before(own: Served, tmp_path: Path) -> None:
    mara = Person(own.url, unique("mara"))
    place = (await mara.make())["id"]
    await mara.fill(place, 100)
    async with AsyncClient(own.url, mara.token) as client:
        replica = client.replica(tmp_path / "m.db")
        await replica.resync()
        epoch = replica.file.epoch(place)
        page = await mara.page(place, before=20)
        await mara.http.patch(f"/conversations/{place}/messages/5", json={"body": "edited meanwhile"})
        await mara.fill(place, 60)
        await replica.resync()
        assert replica.file.add(place, page, epoch) is False
        assert replica.message(place, 5) is None
        assert await replica.older(place, before=20) == 19
        assert (replica.message(place, 5) or pytest.fail("not held")).body == "edited meanwhile"
        replica.file.close()


async def test_access_that_is_lost_leaves_nothing_in_the_file(person: Make, tmp_path: Path) -> None:
    mara, odd = person(), person("odd")
    kept, left, removed, closed = [(await mara.make(members=[odd.user]))["id"] for _ in range(4)]
    for place in (kept, left, removed, closed):
        await mara.post(place, "secret")
    async with AsyncClient(odd.url, odd.token) as client, client.replica(tmp_path / "odd.db") as replica:
        async with asyncio.timeout(PATIENCE):
            await replica.live()
            await odd.http.delete(f"/conversations/{left}/members/me")
            await replica.until(lambda one: one.counts() == (3, 3))
            assert {one.id for one in replica.conversations()} == {kept, removed, closed}
    await mara.http.delete(f"/conversations/{removed}/members/{odd.user}")
    await mara.http.delete(f"/conversations/{closed}")
    async with AsyncClient(odd.url, odd.token) as client:
        replica = client.replica(tmp_path / "odd.db")
        report = await replica.resync()
        assert report.gone in (2, 3)  # the one that was left may be told again, where no checkpoint came since
        assert [one.id for one in replica.conversations()] == [kept]
        assert len(replica.search("secret")) == 1
        replica.file.close()


async def test_a_cursor_that_is_refused_begins_anew_and_drops_what_is_no_more(person: Make, tmp_path: Path) -> None:
    mara, odd = person(), person("odd")
    kept, lost = [(await mara.make(members=[odd.user]))["id"] for _ in range(2)]
    async with AsyncClient(odd.url, odd.token) as client:
        replica = client.replica(tmp_path / "odd.db")
        await replica.resync()
        await mara.http.delete(f"/conversations/{lost}/members/{odd.user}")
        replica.file.checkpoint("of-another-time")
        await replica.resync()
        assert [one.id for one in replica.conversations()] == [kept]
        replica.file.close()


async def test_a_file_of_another_is_refused(person: Make, tmp_path: Path) -> None:
    mara, odd = person(), person("odd")
    path = tmp_path / "one.db"
    async with AsyncClient(mara.url, mara.token) as client:
        replica = client.replica(path)
        await replica.resync()
        replica.file.close()
    async with AsyncClient(odd.url, odd.token) as client:
        with pytest.raises(NotAReplica, match=mara.user):
            await client.replica(path).resync()
        async with client.replica(path) as other, asyncio.timeout(PATIENCE):
            await other.until(lambda one: one.state.state is ReplicaState.REFUSED)
            assert mara.user in other.state.reason
    (tmp_path / "text").write_text("not a database, and long enough to be looked at as if it might be one" * 20)
    sqlite3.connect(tmp_path / "other.db").execute("CREATE TABLE t (x)").connection.close()
    for name in ("text", "other.db", "no/folder.db"):
        with pytest.raises(NotAReplica):
            ReplicaFile(tmp_path / name)


async def test_the_command_line_keeps_a_file_current_and_says_what_it_fetched(person: Make, tmp_path: Path) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.fill(place, 7)

    def run(*arguments: str) -> subprocess.Popen[str]:
        env = {**os.environ, "NESTREL_URL": mara.url, "NESTREL_TOKEN": mara.token}
        command = [sys.executable, "-m", "nestrel.cli", "resync", "--into", str(tmp_path / "r.db"), *arguments]
        return subprocess.Popen(command, env=env, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)

    def once(*arguments: str) -> str:
        out, err = run(*arguments).communicate(timeout=PATIENCE)
        assert err == ""
        return out

    first = json.loads(once("--json"))
    assert (first["conversations"], first["joined"], first["rows"], first["held_messages"]) == (1, 1, 8, 7)
    assert first["bytes"] > 1_000
    await mara.fill(place, 2)
    assert json.loads(once("--json"))["rows"] == 2
    assert once().split()[:3] == ["conversations", "moved", "0"]
    with run("--watch", "--json") as process:
        assert process.stdout is not None
        while json.loads(process.stdout.readline()).get("state") != "live":
            pass
        process.send_signal(signal.SIGINT)
        assert process.wait(20) == 130
    out, err = run("--into", "/nowhere/at/all.db").communicate(timeout=PATIENCE)
    assert out == ""
    assert "cannot be opened" in err


@pytest.fixture(scope="module")
def own(make_database: Callable[[], str]) -> Iterator[Served]:
    """A service of this module's own, which some tests restart; a catch-up of more than 50 rows begins anew."""
    with Served(make_database(), NESTREL_CATCH_UP_ROWS="50") as served:
        yield served.wait_ready()


def test_a_replica_is_what_the_client_gives(tmp_path: Path) -> None:
    assert isinstance(AsyncClient("http://127.0.0.1:1", "t").replica(tmp_path / "x.db"), SyncedReplica)


async def test_a_fault_that_passes_leaves_a_replica_away_and_not_ended(
    person: Make, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Errors of the service, of what stands before it, and of the file."""
    mara = person()
    place = (await mara.make())["id"]
    await mara.fill(place, 3)
    problem = {"type": "/problems/internal", "title": "A fault", "status": 500}
    answers = [
        httpx.Response(500, json=problem),
        httpx.Response(502, text="<html>no way through</html>"),
        httpx.Response(200, text="<html>sign in to the network</html>"),
        httpx.Response(429, json={**problem, "type": "/problems/slow-down", "status": 429}),
    ]

    class Flaky(httpx.AsyncHTTPTransport):
        async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
            if request.url.path.endswith("/resync") and answers:
                return answers.pop(0)
            return await super().handle_async_request(request)

    faults = [sqlite3.OperationalError("disk I/O error"), sqlite3.OperationalError("database is locked")]
    apply = ReplicaFile.apply_answer

    def full(self: ReplicaFile, answer: Any) -> Any:
        if faults:
            raise faults.pop()
        return apply(self, answer)

    monkeypatch.setattr(ReplicaFile, "apply_answer", full)
    reasons: set[str] = set()

    def live(one: SyncedReplica) -> bool:
        assert one.state.state not in (ReplicaState.ENDED, ReplicaState.REFUSED), one.state
        reasons.add(one.state.reason)
        return one.state.state is ReplicaState.LIVE

    async with (
        AsyncClient(mara.url, mara.token, tries=1, transport=Flaky()) as client,
        client.replica(tmp_path / "r.db") as replica,
        asyncio.timeout(60),
    ):
        replica.retry_now()
        await replica.until(live)
        assert [one.seq for one in replica.messages(place)] == [1, 2, 3]
    assert (answers, faults) == ([], [])
    assert any("disk I/O error" in reason for reason in reasons)


async def test_a_page_of_before_a_new_beginning_is_asked_for_again(
    person: Make, monkeypatch: pytest.MonkeyPatch
) -> None:
    mara = person()
    place = (await mara.make())["id"]
    await mara.fill(place, 40)
    async with AsyncClient(mara.url, mara.token) as client, client.live(place, newest=10) as here:
        fetch, asked = client.history_page, []

        async def late(*args: Any, **options: Any) -> Any:
            page = await fetch(*args, **options)
            asked.append(page)
            if len(asked) == 1:  # while this page was on its way, what it was asked for became another history
                here.replica.generation += 1
            return page

        monkeypatch.setattr(client, "history_page", late)
        assert [one.seq for one in await here.older(5)] == [30, 29, 28, 27, 26]
        assert len(asked) == 2
