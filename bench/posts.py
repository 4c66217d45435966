"""Durable posts: over WebSockets into many conversations and into one, and over HTTP."""

from __future__ import annotations

import asyncio
import time
from dataclasses import replace
from uuid import uuid4

import httpx
import orjson

from bench.harness import Bench, Meter, Process, Result, token
from bench.load import keep_busy
from bench.wire import Wire, open_wire

_BODY = "The Corran lies at berth 3 with her bow visor open; two vans of lost property wait at the gangway. " * 2
BODY = _BODY[:120]

_TABLES = """
DROP TABLE IF EXISTS floor_messages, floor_counters;
CREATE TABLE floor_counters (id int PRIMARY KEY, head bigint NOT NULL) WITH (fillfactor = 70);
CREATE TABLE floor_messages (id int, seq bigint, author text, key text, created_at timestamptz, body text,
    PRIMARY KEY (id, seq));
CREATE UNIQUE INDEX ON floor_messages (id, author, key);
CREATE INDEX ON floor_messages (id, author, seq);
INSERT INTO floor_counters SELECT n, 0 FROM generate_series(1, 200) n
"""


def _pgbench_script(conversations: int) -> str:
    return f"""
\\set id random(1, {conversations})
\\set author random(1, 16)
BEGIN;
UPDATE floor_counters SET head = head + 1 WHERE id = :id;
INSERT INTO floor_messages SELECT :id, head, 'crew-' || :author, gen_random_uuid()::text, now(), '{BODY}'
FROM floor_counters WHERE id = :id;
COMMIT;
"""


async def sign_in(service: Process, user: str) -> Wire:
    wire = await open_wire(service.port, "/v1/live")
    signed = wire.first()
    wire.send(orjson.dumps({"type": "sign_in", "token": token(user)}))
    assert b'"signed_in"' in await signed
    return wire


async def make_conversations(
    service: Process, count: int, members: list[str], retention: dict[str, object] | None = None
) -> list[str]:
    async with httpx.AsyncClient(base_url=f"http://127.0.0.1:{service.port}/v1") as http:
        ids = []
        for _ in range(count):
            answer = await http.post(
                "/conversations",
                json={"members": members, "retention": retention},
                headers={"Authorization": f"Bearer {token('harbour-office')}"},
            )
            ids.append(answer.json()["id"])
        return ids


async def posts_over_sockets(
    service: Process,
    conversations: int,
    seconds: float,
    retention: dict[str, object] | None = None,
    meter: Meter | None = None,
) -> float:
    """Posts a second from 16 members, 32 of each under way, into new conversations."""
    users = [f"crew-{n}" for n in range(16)]
    ids = await make_conversations(service, conversations, users, retention)
    wires = [await sign_in(service, user) for user in users]

    def frame(wire: Wire, number: int) -> bytes:
        place = ids[(number * 7 + hash(wire)) % len(ids)]
        return b'{"type":"post","ref":%d,"conversation_id":"%s","key":"%s","body":"%s"}' % (
            number, place.encode(), uuid4().hex.encode(), BODY.encode(),
        )  # fmt: skip

    return await keep_busy(wires, 32, frame, seconds, meter)


async def _posts_over_http(port: int, path: str, seconds: float, headers: dict[str, str]) -> float:
    """32 keep-alive connections, each with one request at a time, on plain streams."""
    body = orjson.dumps({"body": BODY})
    head = f"POST {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\n"
    head += "".join(f"{name}: {value}\r\n" for name, value in headers.items())
    request = head.encode() + b"Content-Length: %d\r\n\r\n%s" % (len(body), body)
    return await http_rate(port, request, seconds, b" 201 ")


async def http_rate(port: int, request: bytes, seconds: float, expect: bytes, connections: int = 32) -> float:
    """Requests a second of one ready-made request over keep-alive connections."""
    stop = time.perf_counter() + seconds

    async def one() -> int:
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        count = 0
        while time.perf_counter() < stop:
            writer.write(request)
            head = await reader.readuntil(b"\r\n\r\n")
            assert expect in head, head
            size = int(head.lower().split(b"content-length:")[1].split(b"\r\n")[0])
            await reader.readexactly(size)
            count += 1
        writer.close()
        return count

    started = time.perf_counter()
    counts = await asyncio.gather(*(one() for _ in range(connections)))
    return sum(counts) / (time.perf_counter() - started)


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    """Ours and the floor in turn, in each round; the median of the ratios."""
    results = []
    for what, conversations, target in (
        ("durable posts/s, 16 WebSockets, 200 conversations", 200, 2.5),
        ("durable posts/s, 16 WebSockets, one conversation", 1, 8.0),
    ):
        pairs, spent, costs = [], [], []
        for _ in range(rounds):
            bench.sql(*_TABLES.split(";"), database="floor")
            bare = Meter(bench)
            floor = bench.pgbench(_pgbench_script(conversations), seconds)
            bare.end(floor * seconds)
            with bench.service() as service:
                meter = Meter(bench, service)
                ours = asyncio.run(posts_over_sockets(service, conversations, seconds, meter=meter))
            pairs.append((ours, floor))
            spent.append(meter.spent)
            costs.append((meter.spent.ours, bare.spent.postgres))
        line = summary(what, pairs, "/s", f"≥ {target}", lambda ratio, least=target: ratio >= least)
        results.append(replace(line, cpu=sorted(spent, key=lambda one: one.ours)[rounds // 2]))
        if conversations > 1:
            results.append(
                summary("CPU of service and PostgreSQL for one of them, against PostgreSQL's for pgbench's transaction",
                        costs, " µs", "≤ 0.4", lambda ratio: ratio <= 0.4)
            )  # fmt: skip
    pairs = []
    for _ in range(rounds):
        with bench.floors() as floors:
            headers = {"Authorization": f"Bearer {token('harbour-office')}"}
            floor = asyncio.run(_posts_over_http(floors.port, "/echo", seconds, headers))
        with bench.service() as service:
            place = asyncio.run(make_conversations(service, 1, []))[0]
            ours = asyncio.run(_posts_over_http(service.port, f"/v1/conversations/{place}/messages", seconds, headers))
        pairs.append((ours, floor))
    results.append(summary("HTTP posts/s, 32 connections", pairs, "/s", "≥ 0.75", lambda ratio: ratio >= 0.75))
    return results


def summary(what: str, pairs: list[tuple[float, float]], unit: str, target: str, good) -> Result:  # type: ignore[no-untyped-def]  # a lambda of one number
    """The pair with the median ratio."""
    ranked = sorted(pairs, key=lambda pair: pair[0] / pair[1])
    ours, floor = ranked[len(ranked) // 2]
    return Result(what, ours, floor, unit, target, ours / floor, good(ours / floor))
