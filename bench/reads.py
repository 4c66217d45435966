"""Pages of history, near and a million messages away, and live deliveries and what an idle follower costs."""

from __future__ import annotations

import asyncio
import statistics
import time

import httpx
import orjson

from bench.harness import Bench, Process, Result, token
from bench.posts import http_rate, make_conversations, sign_in, summary
from bench.wire import Wire, open_wire

_DEEP = 1_000_000
_FOLLOWERS = 500
_IDLE = 500
_HEADERS = {"Authorization": f"Bearer {token('harbour-office')}"}

_FILL = """
INSERT INTO nestrel.messages (conversation_id, seq, rev, author_n, created_at, author_id, body, format)
SELECT '{place}', n, n, n, now() - interval '1 day', 'harbour-office', repeat('tide ', 24), 'plain'
FROM generate_series(1, {count}) n;
UPDATE nestrel.conversations SET head = {count}, rev = {count} + 2, message_count = {count} WHERE id = '{place}';
ANALYZE messages
"""


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    with bench.service() as service:
        place = asyncio.run(make_conversations(service, 1, []))[0]
        bench.sql(*_FILL.format(place=place, count=_DEEP + 100).split(";"))
        depth = [_pages(service, place) for _ in range(rounds)]
        deep, head = sorted(depth, key=lambda pair: pair[0] / pair[1])[len(depth) // 2]
        results = [
            Result("page of 50 at depth 1,000,000 against the head", deep * 1e3, head * 1e3, " ms", "≤ 1.2",
                   deep / head, deep / head <= 1.2)
        ]  # fmt: skip
        pairs = []
        for _ in range(rounds):
            pairs.append(_head_pages(bench, service, place, seconds))
        results.append(summary("head page's requests/s, 32 connections", pairs, "/s", "≥ 0.85", lambda r: r >= 0.85))
    pairs = [_deliveries(bench, seconds) for _ in range(rounds)]
    results.append(
        summary("messages delivered/s, one writer, 500 followers", pairs, "/s", "≥ 0.5", lambda ratio: ratio >= 0.5)
    )
    return [*results, *_memory(bench)]


def _pages(service: Process, place: str) -> tuple[float, float]:
    """Median seconds of a page at the far end and at the head, asked for in turn."""
    times: dict[int, list[float]] = {50: [], _DEEP: []}
    with httpx.Client(base_url=f"http://127.0.0.1:{service.port}/v1", headers=_HEADERS) as http:
        for n in range(200):
            for before, taken in times.items():
                started = time.perf_counter()
                seq = _DEEP + 51 - before + n % 7 if before == _DEEP else _DEEP + 101
                http.get(f"/conversations/{place}/messages", params={"before": seq}).raise_for_status()
                taken.append(time.perf_counter() - started)
    return statistics.median(times[_DEEP]), statistics.median(times[50])


def _head_pages(bench: Bench, service: Process, place: str, seconds: int) -> tuple[float, float]:
    address = f"/v1/conversations/{place}/messages"
    body = httpx.get(f"http://127.0.0.1:{service.port}{address}", headers=_HEADERS).content

    def request(path: str) -> bytes:
        return f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: {_HEADERS['Authorization']}\r\n\r\n".encode()

    with bench.floors() as floors:
        httpx.put(f"http://127.0.0.1:{floors.port}/page", content=body)
        floor = asyncio.run(http_rate(floors.port, request("/page"), seconds, b" 200 "))
    return asyncio.run(http_rate(service.port, request(address), seconds, b" 200 ")), floor


_WINDOW = 8


async def _received(wires: list[Wire], send: Wire, frame: bytes, seconds: float) -> float:
    """Messages a second that all of `wires` get together. The writer keeps 8 under way: it sends its next one when
    everyone has the one of 8 before."""
    count, sent = 0, 0

    def post() -> None:
        nonlocal sent
        send.send(frame.replace(b"%KEY%", str(sent).encode()))
        sent += 1

    def receive(payload: bytes) -> None:
        nonlocal count
        count += payload.count(b'"author_id"')
        while running and count >= (sent - _WINDOW + 1) * len(wires):
            post()

    running = True
    for wire in wires:
        wire.on_frame = receive
    started = time.perf_counter()
    for _ in range(_WINDOW):
        post()
    await asyncio.sleep(seconds)
    running = False
    return count / (time.perf_counter() - started)


def _deliveries(bench: Bench, seconds: int) -> tuple[float, float]:
    async def ours(service: Process) -> tuple[float, bytes]:
        place = (await make_conversations(service, 1, ["writer"]))[0]
        wires = [await sign_in(service, "writer") for _ in range(_FOLLOWERS)]
        sample: list[bytes] = []
        for wire in wires:
            done = wire.first()
            wire.send(orjson.dumps({"type": "follow", "conversation_id": place}))
            assert b'"done"' in await done
        writer = await sign_in(service, "writer")
        frame = orjson.dumps({"type": "post", "conversation_id": place, "key": "%KEY%", "body": "tide " * 24})
        wires[0].on_frame = sample.append
        writer.send(frame.replace(b"%KEY%", b"first"))
        await asyncio.sleep(1)
        return await _received(wires, writer, frame, seconds), sample[0]

    async def floor(process: Process, frame: bytes) -> float:
        wires = [await open_wire(process.port, "/broadcast") for _ in range(_FOLLOWERS)]
        return await _received(wires, wires[0], frame, seconds)

    with bench.service() as service:
        rate, frame = asyncio.run(ours(service))
    with bench.floors() as floors:
        return rate, asyncio.run(floor(floors, frame))


def _memory(bench: Bench) -> list[Result]:
    async def run(service: Process) -> tuple[int, int]:
        place = (await make_conversations(service, 1, ["reader"]))[0]
        warm = [await sign_in(service, "reader") for _ in range(20)]
        before = service.memory
        wires = [await sign_in(service, "reader") for _ in range(_IDLE)]
        for wire in wires:
            wire.send(orjson.dumps({"type": "follow", "conversation_id": place}))
        await asyncio.sleep(2)
        return before, (service.memory - before) // _IDLE if warm else 0

    with bench.service() as service:
        rest = service.memory
        _, each = asyncio.run(run(service))
    return [
        Result("memory of an idle follower", each / 1e3, None, " KB", "≤ 20 KB", each / 1e3, each <= 20_000),
        Result("memory of a service at rest", rest / 1e6, None, " MB", "≤ 150 MB", rest / 1e6, rest <= 150_000_000),
    ]
