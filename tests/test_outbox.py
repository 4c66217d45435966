"""The outbox of a replica: what was done away goes out once, in its order, through cuts and kills."""

from __future__ import annotations

import asyncio
import os
import signal
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from nestrel.client import AsyncClient, ReplicaState
from nestrel.core.outbox import Entry, Outcome, outcome
from tests.support import Person, Served, unique
from tests.test_replica import message

Make = Callable[..., Person]


async def test_what_was_done_away_is_carried_out_once_in_order(own: Served, tmp_path: Path) -> None:
    """Through the restart of the service, while others write; what the service refuses is kept with its reason."""
    mara, odd = Person(own.url, unique("mara")), Person(own.url, unique("odd"))
    place = (await mara.make(members=[odd.user]))["id"]
    await odd.fill(place, 3)
    async with AsyncClient(own.url, odd.token) as client, client.replica(tmp_path / "odd.db") as replica:
        async with asyncio.timeout(60):
            await replica.live()
            own.stop()
            await replica.until(lambda one: one.state.state is ReplicaState.AWAY)
            rev = (replica.message(place, 2) or pytest.fail("not held")).rev
            first = replica.post(place, "from away")
            replica.edit(place, first, "from away, edited")
            replica.react(place, 1)
            replica.edit(place, 2, "edited away", rev=rev)
            replica.remove(place, 3)
            replica.read(place, 2)
            replica.read(place, 3)
            refused = replica.edit(place, 99, "of nothing")
            assert [one.kind for one in replica.outbox.entries()].count("read") == 1
            shown = {one.seq: one for one in replica.shown(place)}
            assert shown[1].reactions[0].by == [odd.user]
            assert (shown[2].body, shown[3].removed_by) == ("edited away", odd.user)
            own.restart().wait_ready()
            replica.retry_now()
            await replica.until(lambda one: one.outbox.next() is None and one.state.state is ReplicaState.LIVE)
        assert [one.n for one in replica.refused()] == [refused.n]
        assert (replica.refused()[0].problem or {})["type"] == "/problems/not-found"
        replica.discard(refused)
        rows = (await mara.page(place, order="asc"))["items"]
        assert [(row["body"], row["edits"]) for row in rows] == [
            ("m1", 0), ("edited away", 1), ("", 0), ("from away, edited", 1)
        ]  # fmt: skip
        assert rows[0]["reactions"][0]["by"] == [odd.user]
        assert [one.model_dump(mode="json")["rev"] for one in replica.messages(place)] == [row["rev"] for row in rows]


async def test_a_pending_post_and_its_message_are_never_both_there_nor_neither(person: Make, tmp_path: Path) -> None:
    mara = person()
    place = (await mara.make())["id"]
    async with AsyncClient(mara.url, mara.token) as client, client.replica(tmp_path / "m.db") as replica:
        async with asyncio.timeout(60):
            await replica.live()
            for n in range(60):
                replica.post(place, f"p{n}")
            while True:
                version = replica.file.version
                shown = [one.body for one in replica.messages(place, limit=100)]
                pending = [one.content["body"] for one in replica.pending(place)]
                assert shown + pending == [f"p{n}" for n in range(60)]
                if not pending:
                    break
                await replica.until(lambda one, version=version: one.file.version != version)  # type: ignore[misc]  # mypy does not infer the default's type


_KILLED = """
import asyncio, sys
from nestrel.client import AsyncClient

async def main():
    url, token, path, place = sys.argv[1:]
    async with AsyncClient(url, token) as client, client.replica(path) as replica:
        n = len(replica.messages(place, limit=10_000)) if replica.counts()[0] else 0
        await replica.live()
        for n in range(10_000):
            replica.post(place, f"{token[-6:]} {n}")
            print(n, flush=True)
            await asyncio.sleep(0)

asyncio.run(main())
"""


def killed_after(lines: int, script: str, *arguments: str) -> None:
    """Run a script until it has written so many lines, and kill it."""
    process = subprocess.Popen([sys.executable, "-c", script, *arguments], stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    for _ in range(lines):
        process.stdout.readline()
    os.kill(process.pid, signal.SIGKILL)
    process.stdout.close()
    process.wait(10)


async def test_an_outbox_outlives_its_process(person: Make, tmp_path: Path) -> None:
    """Killed at any moment, and again: what was taken is posted, once, in its order."""
    mara = person()
    place = (await mara.make())["id"]
    path = tmp_path / "killed.db"
    written = 0
    for turn in range(3):
        killed_after(10 + 15 * turn, _KILLED, mara.url, mara.token, str(path), place)
        written += 10 + 15 * turn
    async with AsyncClient(mara.url, mara.token) as client, client.replica(path) as replica:
        async with asyncio.timeout(60):
            await replica.until(lambda one: one.state.state is ReplicaState.LIVE and one.outbox.next() is None)
        rows: list[dict[str, Any]] = []
        page = await mara.page(place, order="asc", limit=200)
        while True:
            rows += page["items"]
            if page["newer"] is None:
                break
            page = await mara.page(place, cursor=page["newer"], limit=200)
        assert len(rows) >= written
        turns: list[list[int]] = []
        for row in rows:
            n = int(row["body"].split()[1])
            if n == 0:
                turns.append([])
            turns[-1].append(n)
        assert len(turns) == 3
        assert all(turn == list(range(len(turn))) for turn in turns)
        assert [one.seq for one in replica.messages(place, limit=10_000)][-1] == len(rows)


def test_an_edit_that_arrived_before_its_answer_was_lost_is_done() -> None:
    entry = Entry(1, "c", "edit", "k", {"body": "new", "rev": 2}, message(1, 1)["created_at"], seq=1)
    stale = {"type": "/problems/stale-edit", "status": 412, "message": message(1, 3, "new", "odd")}
    assert outcome(entry, stale, "odd") == (Outcome.DONE, stale["message"])
    assert outcome(entry, {**stale, "message": message(1, 3, "other", "odd")}, "odd")[0] is Outcome.REFUSED
    assert outcome(entry, {"status": 503}, "odd")[0] is Outcome.AGAIN
    assert outcome(entry, {"status": 429}, "odd")[0] is Outcome.AGAIN
    assert outcome(entry, {"status": 403}, "odd")[0] is Outcome.REFUSED
