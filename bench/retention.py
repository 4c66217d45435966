"""What goes and what comes in bulk: sweep, posts at a limit, import and export."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Iterator
from dataclasses import replace
from statistics import quantiles
from uuid import UUID, uuid4

import asyncpg
import httpx
import orjson

from bench.harness import Bench, Process, Result, token
from bench.posts import BODY, make_conversations, posts_over_sockets, summary
from nestrel.client import AsyncClient

_SWEPT = 150_000
_IMPORTED = 60_000
_EXPORTED = 200_000
_LATENCY_CONNECTIONS = 4

# What the service would have written, by the server itself: times a minute apart, three authors.
_ROWS = """
    SELECT '{place}'::uuid AS conversation_id, n AS seq, n + 2 AS rev, (n + 2) / 3 AS author_n,
           timestamptz '2026-01-01' + n * interval '1 second' AS created_at, NULL::timestamptz AS edited_at,
           NULL::timestamptz AS removed_at, NULL::bigint AS reply_to, 0 AS edits, false AS changed,
           'crew-' || n % 3 AS author_id, NULL::text AS removed_by, 'plain'::text AS format,
           decode(md5('{place}' || n), 'hex') AS key_hash, decode(md5(n::text), 'hex') AS fingerprint,
           NULL::text AS attributes, '{body}'::text AS body
    FROM generate_series(1, {count}) n
"""
_COLUMNS = (
    "conversation_id, seq, rev, author_n, created_at, edited_at, removed_at, reply_to, edits, changed, author_id, "
    "removed_by, format, key_hash, fingerprint, attributes, body"
)


def _fill(bench: Bench, place: str, count: int) -> None:
    """Write messages into an empty conversation."""
    rows = _ROWS.format(place=place, body=BODY, count=count)
    bench.sql(
        f"INSERT INTO nestrel.messages ({_COLUMNS}) {rows}",
        f"UPDATE nestrel.conversations SET head = {count}, rev = {count + 2}, message_count = {count}, "
        f"kept_bytes = {count * len(BODY)} WHERE id = '{place}'",
        "VACUUM ANALYZE messages",
    )


def _http(service: Process) -> httpx.Client:
    headers = {"Authorization": f"Bearer {token('harbour-office', 'nestrel.service')}"}
    return httpx.Client(base_url=f"http://127.0.0.1:{service.port}/v1", headers=headers, timeout=120)


def _expire(http: httpx.Client, place: str, then: str = "archive") -> None:
    rule = {"keep_last": 1, "then": then, "confirm": True}
    http.put(f"/conversations/{place}/retention", json=rule).raise_for_status()


def _swept(bench: Bench) -> tuple[float, float]:
    """Messages a second archived and taken away, and the server's own move of the same rows to another table."""
    with bench.service(NESTREL_SWEEP_SECONDS="3600") as service, _http(service) as http:
        place = asyncio.run(make_conversations(service, 1, []))[0]
        _fill(bench, place, _SWEPT)
        _expire(http, place)
        started = time.perf_counter()
        while http.post("/retention/run").raise_for_status().json()["waiting"]:
            pass
        ours = (_SWEPT - 1) / (time.perf_counter() - started)
        other = asyncio.run(make_conversations(service, 1, []))[0]
    _fill(bench, other, _SWEPT)
    bench.sql("DROP TABLE IF EXISTS moved", "CREATE TABLE moved (LIKE messages)")
    started = time.perf_counter()
    bench.sql(
        f"WITH gone AS (DELETE FROM nestrel.messages WHERE conversation_id = '{other}' RETURNING *) "
        "INSERT INTO moved SELECT * FROM gone"
    )
    return ours, _SWEPT / (time.perf_counter() - started)


async def _p99(service: Process, place: str, seconds: float) -> float:
    """Milliseconds in which 99 of 100 posts are answered, a few connections posting one after the other."""
    took: list[float] = []
    stop = time.perf_counter() + seconds
    headers = {"Authorization": f"Bearer {token('harbour-office')}"}

    async def post() -> None:
        async with httpx.AsyncClient(base_url=f"http://127.0.0.1:{service.port}/v1", headers=headers) as http:
            while (began := time.perf_counter()) < stop:
                (await http.post(f"/conversations/{place}/messages", json={"body": BODY})).raise_for_status()
                took.append(time.perf_counter() - began)

    await asyncio.gather(*(post() for _ in range(_LATENCY_CONNECTIONS)))
    return quantiles(took, n=100)[98] * 1000


def _latency(bench: Bench, seconds: int) -> tuple[float, float]:
    """The p99 of posts while a sweep runs beside them, and without one."""
    with bench.service(NESTREL_SWEEP_SECONDS="0.1") as service, _http(service) as http:
        quiet, large = asyncio.run(make_conversations(service, 2, []))
        asyncio.run(_p99(service, quiet, 1))
        without = asyncio.run(_p99(service, quiet, seconds))
        _fill(bench, large, 25_000 * seconds)
        _expire(http, large)
        during = asyncio.run(_p99(service, quiet, seconds))
        waiting = _waiting(bench)
        assert waiting > 0, "the sweep was over before the posts were"
    bench.sql("TRUNCATE messages, expired_backlog, archive_segments, archive_authors, expired_keys")
    return during, without


def _waiting(bench: Bench) -> int:
    async def run() -> int:
        connection = await asyncpg.connect(bench.url)
        found = await connection.fetchval("SELECT count(*) FROM nestrel.expired_backlog")
        await connection.close()
        return int(found)

    return asyncio.run(run())


def _at_limit(bench: Bench, seconds: int) -> tuple[float, float]:
    """Posts a second into a conversation at its limit, and into one without a rule."""
    rates = []
    rules: list[dict[str, object] | None] = [{"keep_last": 1_000, "then": "archive"}, None]
    for rule in rules:
        with bench.service() as service:
            rates.append(asyncio.run(posts_over_sockets(service, 1, seconds, rule)))
    return rates[0], rates[1]


def _lines(count: int) -> Iterator[bytes]:
    for n in range(count):
        at = f"2026-02-{1 + n // 86_400:02}T{n // 3600 % 24:02}:{n // 60 % 60:02}:{n % 60:02}Z"
        line = {"author_id": f"crew-{n % 3}", "body": BODY, "created_at": at, "key": f"{n}", "format": "plain"}
        yield orjson.dumps(line) + b"\n"


def _imported(bench: Bench, _seconds: int) -> tuple[float, float]:
    """Lines a second imported through the client, and the server's own INSERT … SELECT into the same indexes."""
    lines = list(_lines(_IMPORTED))

    async def bring(service: Process, place: str) -> None:
        url = f"http://127.0.0.1:{service.port}"
        async with AsyncClient(url, token("harbour-office", "nestrel.service"), timeout=120) as client:
            async for step in client.import_lines(place, lines):
                assert not step.refused

    with bench.service() as service:
        place = asyncio.run(make_conversations(service, 1, []))[0]
        started = time.perf_counter()
        asyncio.run(bring(service, place))
        ours = _IMPORTED / (time.perf_counter() - started)
    rows = _ROWS.format(place=UUID(int=uuid4().int), body=BODY, count=_IMPORTED)
    bench.sql("DROP TABLE IF EXISTS source", f"CREATE UNLOGGED TABLE source AS {rows}")
    started = time.perf_counter()
    bench.sql(f"INSERT INTO nestrel.messages ({_COLUMNS}) SELECT {_COLUMNS} FROM source")
    return ours, _IMPORTED / (time.perf_counter() - started)


def _exported(bench: Bench) -> tuple[float, float]:
    """Messages a second exported, and how many megabytes the service grew by while it did."""

    async def take(service: Process, place: str) -> int:
        url, lines = f"http://127.0.0.1:{service.port}", 0
        async with AsyncClient(url, token("harbour-office", "nestrel.service")) as client:
            async for chunk in client.export(place):
                lines += chunk.count(b"\n")
        return lines

    with bench.service() as service:
        place = asyncio.run(make_conversations(service, 1, []))[0]
        _fill(bench, place, _EXPORTED)
        asyncio.run(take(service, place))
        before = service.memory
        started = time.perf_counter()
        assert asyncio.run(take(service, place)) == _EXPORTED
        rate = _EXPORTED / (time.perf_counter() - started)
        return rate, (service.memory - before) / 1e6


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    """Ours and its floor in turn, in each round; the median of the ratios."""
    pairs = [_swept(bench) for _ in range(rounds)]
    swept = summary("archive and take away, messages/s, against the server's move", pairs, "/s", "", lambda _: True)
    results = [replace(swept, target="≥ 30,000/s", met=swept.ours >= 30_000)]
    for what, unit, target, good, pair in (
        ("p99 of a post during a sweep, against without", " ms", "≤ 2", lambda ratio: ratio <= 2, _latency),
        ("posts/s at keep_last, against no rule", "/s", "≥ 0.9", lambda ratio: ratio >= 0.9, _at_limit),
        ("import, lines/s, against INSERT … SELECT", "/s", "≥ 0.6", lambda ratio: ratio >= 0.6, _imported),
    ):
        results.append(summary(what, [pair(bench, seconds) for _ in range(rounds)], unit, target, good))
    rate, growth = sorted(_exported(bench) for _ in range(rounds))[rounds // 2]
    results.append(Result("export, messages/s", rate, None, "/s", "≥ 50,000/s", rate, rate >= 50_000))
    what = f"memory that an export of {_EXPORTED:,} adds"
    results.append(Result(what, growth, None, " MB", "≤ 10", growth, growth <= 10))
    return results
