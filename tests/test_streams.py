"""The other ways to hear of changes: waiting requests, streams of events, checkpoints; and readers that do not read."""

from __future__ import annotations

import asyncio
import contextlib
import json
import socket
import time
from collections.abc import AsyncIterator, Callable, Iterator
from contextlib import AsyncExitStack, asynccontextmanager
from typing import Any

import httpx
import jsonschema_rs
import psutil
import pytest

from nestrel.core.callers import Caller
from nestrel.core.cursors import CursorSeal
from nestrel.live.checkpoints import Checkpoints
from nestrel.live.deliveries import Checkpoint, Delivery
from nestrel.live.following import Following
from nestrel.live.hub import Hub
from nestrel.live.moves import Moves
from nestrel.live.returns import Returns
from nestrel.live.source import StoreSource
from nestrel.store.database import Database
from tests.support import PATIENCE, Person, Served, unique, until

Make = Callable[..., Person]


@pytest.fixture(scope="module")
def database_url(make_database: Callable[[], str]) -> str:
    return make_database()


@pytest.fixture(scope="module")
def own(database_url: str) -> Iterator[Served]:
    """A service with checkpoints at once, which waits a second for a reader."""
    with Served(database_url, NESTREL_CHECKPOINT_SECONDS="0.1", NESTREL_STALL_SECONDS="1") as served:
        yield served.wait_ready()


async def test_a_waiting_request_is_answered_when_something_changes(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    where = f"/conversations/{place}/changes"
    cursor = (await odd.http.get(where)).json()["cursor"]
    waiting = asyncio.create_task(odd.http.get(where, params={"cursor": cursor, "wait": 30}))
    empty = (await odd.http.get(where, params={"cursor": cursor, "wait": 0.05})).json()
    assert (empty["base"], empty["cursor"], empty["messages"], empty["more"]) == (cursor, cursor, [], False)
    assert not waiting.done()
    await mara.post(place, "here it is")
    found = (await waiting).json()
    assert [row["body"] for row in found["messages"]] == ["here it is"]
    waiting = asyncio.create_task(odd.http.get(where, params={"cursor": found["cursor"], "wait": 30}))
    await odd.http.get(where, params={"cursor": found["cursor"], "wait": 0.05})
    await mara.http.delete(f"/conversations/{place}/members/{odd.user}")
    assert (await waiting).status_code == 404
    for wrong in (-1, 31, "soon"):
        assert (await mara.http.get(where, params={"wait": wrong})).status_code == 422


class Events:
    """The events of a stream, one by one."""

    def __init__(self, lines: AsyncIterator[str]) -> None:
        self._lines = lines

    async def get(self) -> tuple[str, str | None, Any]:
        """Name, id and data of the next event; comments are left out."""
        fields: dict[str, str] = {}
        async with asyncio.timeout(PATIENCE):
            async for line in self._lines:
                if line == "" and fields:
                    data = fields["data"]
                    return fields["event"], fields.get("id"), json.loads(data) if data.startswith("{") else data
                if line and not line.startswith(":"):
                    name, _, value = line.partition(": ")
                    fields[name] = value
        raise EOFError


@asynccontextmanager
async def events(who: Person, path: str, **options: Any) -> AsyncIterator[Events]:
    async with who.http.stream("GET", path, **options) as answer:
        assert answer.status_code == 200, await answer.aread()
        assert answer.headers["content-type"].startswith("text/event-stream")
        yield Events(answer.aiter_lines())


async def test_a_stream_of_one_conversation_resumes_from_the_last_event(person: Make) -> None:
    mara, odd = person(), person("odd")
    place = (await mara.make(members=[odd.user]))["id"]
    where = f"/conversations/{place}/stream"
    await mara.post(place, "before")
    async with events(odd, where) as stream:
        await mara.post(place, "one")
        name, id_, data = await stream.get()
        assert (name, id_) == ("changes", data["cursor"])
        assert [row["body"] for row in data["messages"]] == ["one"]
    await mara.fill(place, 700)
    seen: list[int] = []
    # The header of a browser that comes back goes before the cursor that it began with.
    async with events(odd, where, params={"cursor": data["base"]}, headers={"Last-Event-ID": id_}) as stream:
        base = id_
        while len(seen) < 700:
            _, id_, data = await stream.get()
            assert data["base"] == base
            base = id_
            seen += [row["seq"] for row in data["messages"]]
        await mara.http.delete(f"/conversations/{place}/members/{odd.user}")
        assert await stream.get() == ("unfollowed", None, {"conversation_id": place, "reason": "removed"})
        with pytest.raises(EOFError):
            await stream.get()
    assert seen == list(range(3, 703))
    assert base is not None
    poor: tuple[dict[str, Any], ...] = (
        {"headers": {"Last-Event-ID": "x"}}, {"params": {"cursor": base[:-2]}}, {"params": {"since": "1"}},
    )  # fmt: skip
    for wrong in poor:
        assert (await mara.http.get(where, **wrong)).status_code == 422
    assert (await mara.http.get("/stream", params={"cursor": base})).status_code == 422


async def test_a_stream_of_all_sends_checkpoints_from_which_a_resync_goes_on(own: Served) -> None:
    mara, odd = Person(own.url, unique("mara")), Person(own.url, unique("odd"))
    place = (await mara.make(members=[odd.user]))["id"]
    async with events(odd, "/stream") as stream:
        await mara.post(place, "one")
        fresh = (await mara.make(members=[odd.user]))["id"]
        named: set[str] = set()
        while True:
            name, id_, data = await stream.get()
            if name == "checkpoint":
                assert id_ == data
                if named == {place, fresh}:
                    break
            else:
                assert (name, id_) == ("changes", None)
                named.add(data["conversation_id"])
    again = (await odd.http.post("/resync", json={"cursor": id_})).json()
    assert (again["items"], again["joined"]) == ([], [])
    await mara.post(place, "while away")
    await mara.http.delete(f"/conversations/{fresh}")
    async with events(odd, "/stream", headers={"Last-Event-ID": id_}) as stream:
        came = [await stream.get(), await stream.get()]
    assert {name: data["conversation_id"] for name, _, data in came} == {"changes": place, "unfollowed": fresh}


async def test_who_has_caught_up_is_told_so_also_where_nothing_came(own: Served) -> None:
    """By stream and by socket, with a cursor and without: one checkpoint, from which nothing has moved."""
    mara = Person(own.url, unique("mara"))
    await mara.make()
    cursor = (await mara.http.get("/conversations")).json()["cursor"]
    for start in ({}, {"cursor": cursor}):
        async with events(mara, "/stream", params=start) as stream:
            name, told, data = await stream.get()
        async with mara.socket() as wire:
            await wire.command(type="follow_all", **start)
            frame = await wire.get(checkpoints=True)
        assert (name, data, frame["type"]) == ("checkpoint", told, "checkpoint")
        for at in (told, frame["cursor"]):
            found = (await mara.http.post("/resync", json={"cursor": at})).json()
            assert (found["items"], found["reset"]) == ([], False)


async def test_frames_and_events_are_as_the_asyncapi_document_says(own: Served) -> None:
    document = httpx.get(own.url + "/asyncapi.json").json()
    schemas = document["components"]["schemas"]
    assert {channel["address"] for channel in document["channels"].values()} == {
        "/v1/live", "/v1/stream", "/v1/conversations/{conversation_id}/stream"
    }  # fmt: skip

    def check(name: str, data: Any) -> None:
        jsonschema_rs.validate({**schemas[name], "components": document["components"]}, data)

    mara, odd = Person(own.url, unique("mara")), Person(own.url, unique("odd"))
    place = (await mara.make(members=[odd.user]))["id"]
    async with odd.socket() as wire, events(odd, "/stream") as stream:
        check("server_done", await wire.command(type="follow_all"))
        await mara.post(place, "one")
        told: set[str] = set()
        while not told >= {"changes", "checkpoint"}:
            frame = await wire.get(checkpoints=True)
            check(f"server_{frame['type']}", frame)
            told.add(frame["type"])
        # Each has its own checkpoints: one may have come before the message on the one and not on the other.
        seen: set[str] = set()
        while not seen >= {"changes", "checkpoint"}:
            name, _, data = await stream.get()
            check(f"event_{name}", data)
            seen.add(name)
        await mara.http.delete(f"/conversations/{place}")
        while "unfollowed" not in seen:
            name, _, data = await stream.get()
            check(f"event_{name}", data)
            seen.add(name)
    assert seen >= {"changes", "checkpoint", "unfollowed"}


async def test_a_socket_that_follows_all_resumes_from_a_checkpoint(
    make_database: Callable[[], str], afterwards: AsyncExitStack
) -> None:
    """Cut at any moment and resumed from the last checkpoint that came, nothing is missing."""
    own = afterwards.enter_context(Served(make_database(), NESTREL_CHECKPOINT_SECONDS="0.2"))
    own.wait_ready()
    mara, odd = Person(own.url, unique("mara")), Person(own.url, unique("odd"))
    places = [(await mara.make(members=[odd.user]))["id"] for _ in range(5)]
    cursor = (await odd.http.get("/conversations")).json()["cursor"]
    rows: dict[tuple[str, int], str] = {}
    for turn in range(6):
        for place in places[turn % 3 :]:
            await mara.post(place, f"before {turn}")
        async with odd.socket() as wire:
            assert (await wire.command(type="follow_all", cursor=cursor))["cursor"] == cursor
            writing = asyncio.create_task(_write(mara, places, turn))
            checkpoints = 0
            while checkpoints < 2:
                frame = await wire.get(checkpoints=True)
                if frame["type"] == "checkpoint":
                    cursor, checkpoints = frame["cursor"], checkpoints + 1
                    if writing.done():
                        break
                else:
                    rows |= {(frame["conversation_id"], row["seq"]): row["body"] for row in frame["messages"]}
            await writing
    there: dict[tuple[str, int], str] = {}
    for place in places:
        there |= {(place, row["seq"]): row["body"] for row in (await odd.page(place, limit=200))["items"]}
    async with odd.socket() as wire:
        await wire.command(type="follow_all", cursor=cursor)
        while len(rows) < len(there):
            frame = await wire.get()
            rows |= {(frame["conversation_id"], row["seq"]): row["body"] for row in frame.get("messages", [])}
    assert rows == there


async def test_no_checkpoint_speaks_for_a_conversation_that_was_left_out(own: Served) -> None:
    mara = Person(own.url, unique("mara"))
    first, second = [(await mara.make())["id"] for _ in range(2)]
    async with mara.socket() as wire:
        await wire.command(type="follow_all")
        await wire.command(type="unfollow", conversation_id=first)
        await mara.post(second, "heard")
        assert (await wire.get())["conversation_id"] == second
        with pytest.raises(TimeoutError):
            await wire.get(0.4, checkpoints=True)
        await wire.command(type="follow", conversation_id=first)
        assert (await wire.get(checkpoints=True))["type"] == "checkpoint"


async def _write(mara: Person, places: list[str], turn: int) -> None:
    for n in range(6):
        for place in places:
            await mara.post(place, f"{turn} {n}")


async def test_a_lost_wake_up_is_found_before_the_checkpoint_speaks_of_it(database_url: str, own: Served) -> None:
    """A hub whose bus is deaf: the question of the checkpoint finds a message, and a joined conversation."""
    mara, odd = Person(own.url, unique("mara")), Person(own.url, unique("odd"))
    place = (await mara.make(members=[odd.user]))["id"]
    await odd.http.get("/me")
    database = Database(database_url, notify=False)
    seal = CursorSeal(await database.secret("cursor"))
    source = StoreSource(database, 1_000)
    hub = Hub(source)
    stirred = asyncio.Event()
    checkpoints = Checkpoints(hub, moves := Moves(source), 60)
    returns = Returns(source, moves, checkpoints)
    following = Following(hub, source, returns, lambda: seal, Caller(odd.user), stirred.set)
    try:
        await following.follow_all(None)
        since = await checkpoints.turn(None)
        await mara.post(place, "unheard")
        fresh = (await mara.make(members=[odd.user]))["id"]
        assert await following.next() is None  # nothing has come by itself
        found = await checkpoints.turn(since)
        assert found.xmax > since.xmax
        await checkpoints.turn(found)  # the one before does not speak for a conversation that it has found itself
        came: list[Delivery] = []
        async with asyncio.timeout(PATIENCE):
            while not isinstance(event := await following.next(), Checkpoint):
                if event is None:
                    stirred.clear()
                    await stirred.wait()
                else:
                    assert isinstance(event, Delivery)
                    came.append(event)
        assert {json.loads("{" + one.tail)["conversation_id"] for one in came} == {place, fresh}
        assert (await odd.http.post("/resync", json={"cursor": event.cursor})).json()["items"] == []
    finally:
        following.end_all()
        await hub.stop()
        await database.close()


def stalled_socket(who: Person, place: str, *, small: bool = True) -> socket.socket:
    """A follower that signs in and follows by plain bytes, and reads no more. One with a `small` buffer stalls soon;
    when such a one reads again, TCP takes seconds to believe it."""
    raw = socket.create_connection(("127.0.0.1", httpx.URL(who.url).port or 0))
    if small:
        raw.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
    head = (
        f"GET /v1/live HTTP/1.1\r\nHost: x\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n"
        "Sec-WebSocket-Version: 13\r\n"
        f"Sec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\nAuthorization: Bearer {who.token}\r\n\r\n"
    )
    raw.sendall(head.encode())
    came = b""
    while b"signed_in" not in came:
        came += raw.recv(4096)
    frame = json.dumps({"type": "follow", "conversation_id": place}).encode()
    raw.sendall(bytes((0x81, 0x80 | len(frame), 0, 0, 0, 0)) + frame)
    return raw


@pytest.mark.whole
async def test_readers_that_do_not_read_cost_no_memory_and_are_ended_with_a_reason(own: Served) -> None:
    """Many sockets that follow and never read; what is posted meanwhile does not pile up for them."""
    mara = Person(own.url, unique("mara"))
    place = (await mara.make())["id"]
    process = psutil.Process(own.process.pid)
    body = "x" * 8_000
    for _ in range(20):
        await mara.post(place, body)
    with contextlib.ExitStack() as opened:
        for _ in range(100):
            opened.enter_context(stalled_socket(mara, place))
        until(lambda: _metric(own, "nestrel_follows") >= 100)
        before = process.memory_info().rss
        posted = await _post_until_stalled(own, mara, place, 100)
        # Had each of them a queue, they would hold 8 kB a message for each.
        assert process.memory_info().rss - before < min(posted * 100 * len(body) / 2, 60e6)
        until(lambda: _metric(own, "nestrel_connections") == 0)
    # One that comes to its senses in time reads, behind all that it had not read, why it ends.
    with stalled_socket(mara, place, small=False) as raw:
        await _post_until_stalled(own, mara, place, 1)
        late = b""
        while chunk := raw.recv(65536):
            late = late[-200:] + chunk
        assert (4408).to_bytes(2, "big") + b"nothing was read" in late[-200:]


async def _post_until_stalled(served: Served, mara: Person, place: str, count: int) -> int:
    """Post long messages until so many more connections have been found stalled; returns how many it took."""
    wanted, posted, stop = _metric(served, "nestrel_stalled_total") + count, 0, time.monotonic() + 40
    while _metric(served, "nestrel_stalled_total") < wanted:
        assert time.monotonic() < stop
        await mara.post(place, "x" * 8_000)
        posted += 1
    return posted


def _metric(served: Served, name: str) -> float:
    lines = httpx.get(served.url + "/metrics").text.splitlines()
    return sum(float(line.split()[1]) for line in lines if line.startswith(name + " "))
