"""What comes after a post: likes, receipts, and the list of conversations."""

from __future__ import annotations

import asyncio
import statistics
import time

import httpx

from bench.harness import Bench, Process, Result, token
from bench.load import keep_busy
from bench.posts import make_conversations, sign_in, summary
from bench.wire import Wire

_PLACES, _MESSAGES = 200, 5
_READERS = 200
_MANY, _FEW = 1_000, 50
_ALL_MESSAGES = 1_000_000

_LIKES_TABLES = """
DROP TABLE IF EXISTS floor_likes, floor_like_counts;
CREATE TABLE floor_likes (message int, author text, at timestamptz, PRIMARY KEY (message, author));
CREATE TABLE floor_like_counts (message int PRIMARY KEY, n bigint NOT NULL) WITH (fillfactor = 70);
INSERT INTO floor_like_counts SELECT n, 0 FROM generate_series(1, 1000) n
"""
_LIKES_SCRIPT = """
\\set message random(1, 1000)
\\set author random(1, 16)
BEGIN;
INSERT INTO floor_likes VALUES (:message, 'crew-' || :author, now())
ON CONFLICT (message, author) DO UPDATE SET at = excluded.at;
UPDATE floor_like_counts SET n = n + 1 WHERE message = :message;
COMMIT;
"""
_READ_TABLES = """
DROP TABLE IF EXISTS floor_receipts;
CREATE TABLE floor_receipts (member int PRIMARY KEY, read_seq bigint NOT NULL) WITH (fillfactor = 70);
INSERT INTO floor_receipts VALUES (1, 0)
"""
_READ_SCRIPT = """
UPDATE floor_receipts SET read_seq = read_seq + 1 WHERE member = 1;
"""
_FILL = """
INSERT INTO nestrel.messages (conversation_id, seq, rev, author_n, created_at, author_id, body, format)
SELECT c.id, n, n, n, now() - interval '1 day', 'harbour-office', repeat('tide ', 24), 'plain'
FROM nestrel.conversations c, generate_series(1, {count}) n WHERE c.id = ANY('{{{ids}}}');
UPDATE nestrel.conversations SET head = {count}, rev = {count} + 3, message_count = {count} WHERE id = ANY('{{{ids}}}');
UPDATE nestrel.members SET read_seq = {count} - 20 WHERE conversation_id = ANY('{{{ids}}}');
ANALYZE
"""


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    likes, receipts = [], []
    for _ in range(rounds):
        bench.sql(*_LIKES_TABLES.split(";"), *_READ_TABLES.split(";"), database="floor")
        floor = bench.pgbench(_LIKES_SCRIPT, seconds)
        with bench.service() as service:
            likes.append((asyncio.run(_likes(service, seconds)), floor))
        floor = bench.pgbench(_READ_SCRIPT, seconds)
        with bench.service() as service:
            receipts.append((asyncio.run(_receipts(service, seconds)), floor))
    return [
        summary("likes/s, 16 WebSockets, 1,000 messages", likes, "/s", "≥ 1.5", lambda ratio: ratio >= 1.5),
        summary("receipts/s, 200 members of one conversation", receipts, "/s", "≥ 3", lambda ratio: ratio >= 3),
        *_lists(bench),
    ]


async def _posted(service: Process, place: str, count: int) -> None:
    async with httpx.AsyncClient(base_url=f"http://127.0.0.1:{service.port}/v1") as http:
        for start in range(0, count, 500):
            messages = [{"key": f"{n}", "body": "tide " * 24} for n in range(start, min(count, start + 500))]
            answer = await http.post(
                f"/conversations/{place}/messages/batch",
                json={"messages": messages},
                headers={"Authorization": f"Bearer {token('harbour-office')}"},
            )
            answer.raise_for_status()


async def _likes(service: Process, seconds: float) -> float:
    """1,000 messages of 200 conversations, 60 likes of each socket under way. Each member goes through them in an
    order of their own: likes them all, then takes all back."""
    users = [f"crew-{n}" for n in range(16)]
    places = await make_conversations(service, _PLACES, users)
    for place in places:
        await _posted(service, place, _MESSAGES)
    everything = _PLACES * _MESSAGES
    wires = [await sign_in(service, user) for user in users]
    step = {wire: index * 61 for index, wire in enumerate(wires)}

    def frame(wire: Wire, number: int) -> bytes:
        kind = b"react" if (number // everything) % 2 == 0 else b"unreact"
        place, seq = divmod((number * 7 + step[wire]) % everything, _MESSAGES)
        return b'{"type":"%s","ref":%d,"conversation_id":"%s","seq":%d,"symbol":"like"}' % (
            kind, number, places[place].encode(), seq + 1,
        )  # fmt: skip

    return await keep_busy(wires, 60, frame, seconds)


async def _receipts(service: Process, seconds: float) -> float:
    users = [f"crew-{n}" for n in range(_READERS)]
    place = (await make_conversations(service, 1, users))[0]
    await _posted(service, place, 20_000)
    wires = [await sign_in(service, user) for user in users]

    def frame(_wire: Wire, number: int) -> bytes:
        return b'{"type":"read","ref":%d,"conversation_id":"%s","read_seq":%d}' % (
            number, place.encode(), min(number, 20_000),
        )  # fmt: skip

    return await keep_busy(wires, 4, frame, seconds)


def _lists(bench: Bench) -> list[Result]:
    with bench.service() as service:
        many = asyncio.run(make_conversations(service, _MANY, ["many"]))
        few = asyncio.run(make_conversations(service, _FEW, ["few"]))
        for ids, count in ((many, _ALL_MESSAGES // _MANY), (few, _ALL_MESSAGES // _MANY)):
            bench.sql(*_FILL.format(ids=",".join(ids), count=count).split(";"))
        first: dict[str, list[float]] = {"many": [], "few": []}
        whole: dict[str, list[float]] = {"many": [], "few": []}
        with httpx.Client(base_url=f"http://127.0.0.1:{service.port}/v1") as http:
            for _ in range(25):
                for user in first:
                    headers = {"Authorization": f"Bearer {token(user)}"}
                    begun = time.perf_counter()
                    page = http.get("/conversations", params={"limit": 50}, headers=headers).json()
                    first[user].append(time.perf_counter() - begun)
                    assert len(page["items"]) == 50, page
                    begun, count, cursor = time.perf_counter(), 0, None
                    while True:
                        query = {"limit": 200, **({"cursor": cursor} if cursor else {})}
                        page = http.get("/conversations", params=query, headers=headers).json()
                        count, cursor = count + len(page["items"]), page["next"]
                        if cursor is None:
                            break
                    whole[user].append((time.perf_counter() - begun) / count)
    pages = {user: statistics.median(times) * 1e3 for user, times in first.items()}
    items = {user: statistics.median(times) * 1e6 for user, times in whole.items()}
    return [
        Result("first page of 50 of 1,000 conversations, against 50 of 50", pages["many"], pages["few"], " ms",
               "≤ 3", pages["many"] / pages["few"], pages["many"] / pages["few"] <= 3),
        Result("each item of the whole list of 1,000, against that of 50", items["many"], items["few"], " µs",
               "≤ 1", items["many"] / items["few"], items["many"] / items["few"] <= 1),
    ]  # fmt: skip
