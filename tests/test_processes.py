"""More than one process, processes that die, and a database that goes away."""

from __future__ import annotations

import asyncio
import json
import os
import signal
import tempfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import httpx
import psutil
import pytest
from websockets.asyncio.client import connect
from websockets.exceptions import ConnectionClosed

from nestrel.local.postgres import LocalPostgres, free_port
from nestrel.store import schema
from tests.soak import soak
from tests.support import PATIENCE, Person, Served, Wire, token, unique, until

pytestmark = pytest.mark.whole


@pytest.fixture(scope="module")
def two(make_database: Callable[[], str]) -> Iterator[tuple[Served, Served]]:
    """Two service processes on one database."""
    url = make_database()
    with Served(url) as one, Served(url) as other:
        yield one.wait_ready(), other.wait_ready()


def check_numbers(rows: list[dict[str, Any]]) -> None:
    assert [row["seq"] for row in rows] == list(range(1, len(rows) + 1))
    assert [row["created_at"] for row in rows] == sorted(row["created_at"] for row in rows)


async def everything(who: Person, place: str) -> list[dict[str, Any]]:
    rows, page = [], await who.page(place, order="asc", limit=200)
    while True:
        rows += page["items"]
        if page["newer"] is None:
            return rows
        page = await who.page(place, cursor=page["newer"], limit=200)


async def test_writers_over_two_processes_leave_no_gap_and_all_readers_see_one_order(
    two: tuple[Served, Served],
) -> None:
    one, other = two
    writers = [Person(served.url, unique("w")) for served in (one, other) for _ in range(4)]
    readers = [Person(one.url, writers[0].user), Person(other.url, writers[0].user)]
    place = (await writers[0].make(members=[who.user for who in writers[1:]]))["id"]

    async def write(who: Person) -> None:
        for n in range(40):
            answer = await who.post(place, f"{who.user} {n}", f"{n}")
            assert answer.status_code == 201
            if n in (5, 8, 11) and who in (writers[0], writers[-1]):
                following.append(asyncio.create_task(follow_from_page(readers[n % 2])))

    async def follow(who: Person) -> list[tuple[int, int]]:
        async with who.socket() as wire:
            await wire.command(type="follow", conversation_id=place)
            ready.release()
            return [(m["seq"], m["rev"]) for m in await wire.messages(320)]

    async def follow_from_page(who: Person) -> list[tuple[int, int]]:
        page = await who.page(place, order="asc", limit=200)
        had = [(m["seq"], m["rev"]) for m in page["items"]]
        assert page["newer"] is None
        async with who.socket() as wire:
            await wire.command(type="follow", conversation_id=place, cursor=page["change_cursor"])
            return had + [(m["seq"], m["rev"]) for m in await wire.messages(320 - len(had))]

    ready = asyncio.Semaphore(0)
    following = [asyncio.create_task(follow(who)) for who in readers]
    for _ in readers:
        await ready.acquire()
    await asyncio.gather(*(write(who) for who in writers))
    rows = await everything(readers[0], place)
    check_numbers(rows)
    assert len(rows) == 320
    for who in writers:
        assert [row["body"] for row in rows if row["author_id"] == who.user] == [f"{who.user} {n}" for n in range(40)]
    for seen in await asyncio.gather(*following):
        assert seen == [(row["seq"], row["rev"]) for row in rows]


async def test_what_happens_on_one_process_is_seen_at_once_on_another(two: tuple[Served, Served]) -> None:
    mara, odd = Person(two[0].url, unique("mara")), Person(two[1].url, unique("odd"))
    async with odd.socket() as wire:
        await wire.command(type="follow_all")
        place = (await mara.make(members=[odd.user]))["id"]
        assert (await wire.get())["conversation_id"] == place
        await mara.post(place, "over there")
        assert [m["body"] for m in await wire.messages(1)] == ["over there"]
        await mara.http.delete(f"/conversations/{place}/members/{odd.user}")
        await mara.post(place, "not for odd")
        assert (await wire.get())["reason"] == "removed"
        await wire.quiet()


async def test_one_key_over_two_processes_posts_once(two: tuple[Served, Served]) -> None:
    user = unique("mara")
    people = [Person(served.url, user) for served in two for _ in range(5)]
    place = (await people[0].make())["id"]
    for round_ in range(10):
        answers = await asyncio.gather(*(who.post(place, "once", f"k{round_}") for who in people))
        assert sorted(answer.status_code for answer in answers) == [200] * 9 + [201]
        assert {answer.json()["seq"] for answer in answers} == {round_ + 1}


def _workers(served: Served) -> dict[int, set[int]]:
    """The workers of a service, by what they are forked from."""
    found = {}
    for one in psutil.Process(served.process.pid).children():
        with suppress(psutil.NoSuchProcess):
            if workers := {worker.pid for worker in one.children()}:
                found[one.pid] = workers
    return found


def test_workers_whose_origin_is_killed_make_room_for_those_that_come(make_database: Callable[[], str]) -> None:
    with Served(make_database(), workers=2) as served:
        served.wait_ready()
        until(lambda: [len(workers) for workers in _workers(served).values()] == [2])
        [(origin, before)] = _workers(served).items()
        os.kill(origin, signal.SIGKILL)
        until(lambda: [len(workers) for workers in _workers(served).values()] == [2] and origin not in _workers(served))
        until(lambda: not any(psutil.pid_exists(pid) for pid in before))
        served.wait_ready()
        assert served.stop() == 0


async def test_workers_share_the_work_and_their_metrics_add_up(make_database: Callable[[], str]) -> None:
    with Served(make_database(), workers=2) as served:
        served.wait_ready()
        mara = Person(served.url, unique("mara"))
        place = (await mara.make())["id"]
        sockets = [connect("ws" + served.url[4:] + "/v1/live") for _ in range(8)]
        opened = [await socket for socket in sockets]
        for raw in opened:
            await raw.send(json.dumps({"type": "sign_in", "token": mara.token}))
            await raw.recv()
            await raw.send(json.dumps({"type": "follow", "conversation_id": place}))
            await raw.recv()
        await mara.post(place, "to all")
        for raw in opened:
            assert json.loads(await asyncio.wait_for(raw.recv(), PATIENCE))["messages"][0]["body"] == "to all"
        metrics = httpx.get(served.url + "/metrics").text
        assert "nestrel_messages_total 1.0" in metrics
        assert "nestrel_connections 8.0" in metrics
        for raw in opened:
            await raw.close()
        assert served.stop() == 0


async def test_a_process_killed_under_load_loses_nothing_acknowledged_and_doubles_nothing(
    make_database: Callable[[], str],
) -> None:
    """Clients send again with their keys what was not acknowledged, and every message stands once."""
    url, port = make_database(), free_port()
    users = [unique("w") for _ in range(6)]
    with Served(url, port=port) as first:
        first.wait_ready()
        place = (await Person(first.url, users[0]).make(members=users[1:]))["id"]
        acknowledged: dict[str, int] = {}
        enough = asyncio.Event()

        async def write(user: str, served_url: str, keys: list[str]) -> None:
            async with Person(served_url, user).socket() as wire:
                for key in keys:
                    await wire.send(type="post", conversation_id=place, key=key, body=key)
                for _ in keys:
                    frame = await wire.get()
                    assert frame["type"] == "done", frame
                    acknowledged[frame["message"]["body"]] = frame["message"]["seq"]
                    if len(acknowledged) == 300:
                        enough.set()

        keys = {user: [f"{user} {n}" for n in range(400)] for user in users}
        writing = [asyncio.create_task(write(user, first.url, keys[user])) for user in users]
        await asyncio.wait_for(enough.wait(), PATIENCE)
        first.kill()
        await asyncio.gather(*writing, return_exceptions=True)
    before = dict(acknowledged)
    assert 300 <= len(before) < 2400
    with Served(url, port=port) as second:
        second.wait_ready()
        rows = await everything(Person(second.url, users[0]), place)
        assert {row["body"]: row["seq"] for row in rows}.items() >= before.items()
        await asyncio.gather(*(write(user, second.url, keys[user]) for user in users))
        rows = await everything(Person(second.url, users[0]), place)
        check_numbers(rows)
        assert sorted(row["body"] for row in rows) == sorted(key for own in keys.values() for key in own)
        for body, seq in before.items():
            assert rows[seq - 1]["body"] == body


async def test_sigterm_finishes_what_is_in_flight_and_closes_sockets_with_1001(
    make_database: Callable[[], str],
) -> None:
    url = make_database()
    with Served(url) as served:
        served.wait_ready()
        mara = Person(served.url, unique("mara"))
        place = (await mara.make())["id"]
        async with mara.socket() as wire:
            for n in range(60):
                await wire.send(type="post", conversation_id=place, key=f"k{n}", body=f"{n}")
            first = await wire.get()
            served.process.terminate()
            answers = [first]
            with pytest.raises(ConnectionClosed):
                while True:
                    answers.append(json.loads(await asyncio.wait_for(wire.raw.recv(), PATIENCE)))
            assert wire.raw.close_code == 1001
        assert served.process.wait(20) == 0
        done = [answer["message"]["seq"] for answer in answers if answer["type"] == "done"]
    with Served(url) as again:
        again.wait_ready()
        kept = (await Person(again.url, mara.user).page(place, limit=200))["items"]
        assert set(done) <= {item["seq"] for item in kept}


async def test_a_database_that_goes_away_is_503_and_comes_back_without_a_restart() -> None:
    with tempfile.TemporaryDirectory(prefix="nestrel-away-", ignore_cleanup_errors=True) as folder:
        os.chmod(folder, 0o755)
        postgres = LocalPostgres(Path(folder))
        postgres.start()
        port = postgres.port
        postgres.create_database("nestrel")
        await schema.upgrade(postgres.url("nestrel"))
        try:
            with Served(postgres.url("nestrel")) as served:
                served.wait_ready()
                mara = Person(served.url, unique("mara"))
                place = (await mara.make())["id"]
                async with mara.socket() as wire:
                    await wire.command(type="follow", conversation_id=place)
                    assert (await mara.post(place, "before", "k0")).status_code == 201
                    await wire.messages(1)
                    await asyncio.to_thread(postgres.stop, "immediate")
                    for answer in (
                        await mara.post(place, "away", "k1"),
                        await mara.http.get(f"/conversations/{place}"),
                    ):
                        assert answer.status_code == 503
                        assert answer.json()["type"] == "/problems/store-unavailable"
                        assert int(answer.headers["retry-after"]) >= 1
                    refused = await wire.command(type="post", conversation_id=place, key="k1", body="away")
                    assert refused["problem"]["status"] == 503
                    assert httpx.get(served.url + "/healthz").status_code == 200
                    assert httpx.get(served.url + "/readyz").status_code == 503
                    await asyncio.to_thread(postgres.start, port)
                    await asyncio.to_thread(served.wait_ready)
                    assert (await mara.post(place, "away", "k1")).status_code == 201
                    assert [m["body"] for m in await wire.messages(1)] == ["away"]
                    other = Person(served.url, mara.user)
                    assert [m["body"] for m in (await other.page(place, order="asc"))["items"]] == ["before", "away"]
        finally:
            postgres.stop("immediate")


async def test_a_service_without_its_database_starts_and_waits(postgres: LocalPostgres) -> None:
    with Served(f"postgresql://nobody@127.0.0.1:{free_port()}/none") as served:
        served.wait_ready("/healthz")
        assert httpx.get(served.url + "/readyz", timeout=PATIENCE).status_code == 503
        answer = httpx.get(served.url + "/v1/me", headers={"Authorization": f"Bearer {token('m')}"}, timeout=PATIENCE)
        assert answer.status_code == 503
    postgres.create_database("empty_for_ready")
    with Served(postgres.url("empty_for_ready")) as served:
        served.wait_ready("/healthz")
        answer = httpx.get(served.url + "/readyz", timeout=PATIENCE)
        assert (answer.status_code, "nestrel db upgrade" in answer.text) == (503, True)


async def test_a_stalled_reader_costs_no_memory_holds_nobody_up_and_misses_nothing(
    make_database: Callable[[], str],
) -> None:
    """Thirty followers do not read while 24 MB of messages go by; one who reads gets them at once."""
    with Served(make_database()) as served:
        served.wait_ready()
        mara = Person(served.url, unique("mara"))
        place = (await mara.make())["id"]
        stalled = []
        for _ in range(30):
            raw = await connect("ws" + served.url[4:] + "/v1/live", max_queue=1, max_size=None)
            for frame in ({"type": "sign_in", "token": mara.token}, {"type": "follow", "conversation_id": place}):
                await raw.send(json.dumps(frame))
                await raw.recv()
            stalled.append(raw)
        body = "x" * 8_000
        before = psutil.Process(served.process.pid).memory_info().rss
        async with mara.socket() as wire:
            await wire.command(type="follow", conversation_id=place)
            for start in range(0, 3_000, 100):
                messages = [{"key": f"{start + n}", "body": body} for n in range(100)]
                answer = await mara.http.post(f"/conversations/{place}/messages/batch", json={"messages": messages})
                assert answer.status_code == 200
            assert [m["seq"] for m in await wire.messages(3_000)] == list(range(1, 3_001))
        grown = psutil.Process(served.process.pid).memory_info().rss - before
        assert grown < 120_000_000  # thirty queues of their own would be 720 MB
        seen = [m["seq"] for m in await Wire(stalled[0]).messages(3_000)]
        assert seen == list(range(1, 3_001))
        for raw in stalled:
            raw.transport.abort()


async def test_a_short_soak_keeps_every_promise() -> None:
    """Services, PostgreSQL, lines and devices are killed under load; `script/soak` does it for as long as asked."""
    counts = await soak(12, 20_261_125, lambda _text: None, faults=2)
    assert counts["messages"] > 50
