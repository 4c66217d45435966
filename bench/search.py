"""Search: how fast messages go into the index, how long an answer takes, and what the index costs a post."""

from __future__ import annotations

import asyncio
import statistics
import time

import httpx

from bench.crowd import PACE, at_a_pace
from bench.harness import Bench, Meter, Process, Result, token
from bench.posts import make_conversations, posts_over_sockets, summary
from nestrel.service.indexer import Indexer
from nestrel.store.database import Database

_PLACES, _EACH = 1_000, 1_000
_ALL = 1_000_000
_CALLS = 60
_FILL = """
INSERT INTO nestrel.messages (conversation_id, seq, rev, author_n, created_at, author_id, body, format)
SELECT c.id, n, n, n, now() - interval '30 days' + (n::float8 / {count}) * interval '29 days', 'harbour-office',
    concat_ws(' ', (ARRAY['Corran', 'Selkie', 'Tern', 'Gannet'])[1 + n % 4], 'lies at berth', n % 7, 'since tide',
        n, CASE WHEN n % {rare} = 7 THEN 'in a zephyr from' ELSE 'in a wind from' END,
        (ARRAY['west', 'south', 'north', 'east'])[1 + n % 3], 'and vans of lost property wait at the gangway'), 'plain'
FROM nestrel.conversations c, generate_series(1, {count}) n WHERE c.id = ANY('{{{ids}}}');
UPDATE nestrel.conversations SET head = {count}, rev = {count} + 3, message_count = {count} WHERE id = ANY('{{{ids}}}');
ANALYZE
"""


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    with bench.service(NESTREL_SEARCH="off") as service:
        [one] = asyncio.run(make_conversations(service, 1, ["one"]))
        many = asyncio.run(make_conversations(service, _PLACES, ["many"]))
    for ids, count, rare in (([one], _ALL, 100_000), (many, _EACH, 1_000)):
        bench.sql(*_FILL.format(ids=",".join(ids), count=count, rare=rare).split(";"))
    rate = asyncio.run(_index(bench))
    bench.sql("VACUUM ANALYZE nestrel.search_blocks")
    results = [Result("messages/s into the search index", rate, None, "/s", "≥ 20,000", rate, rate >= 20_000)]
    with bench.service() as service:
        for who, where in (("one", "one conversation of 1,000,000"), ("many", "1,000 conversations of 1,000")):
            for word, how in (("berth", "common"), ("zephyr", "rare")):
                first, hundredth = _answers(service, who, word)
                what = f"95th percentile of a search, {where}, a {how} word"
                results.append(Result(what, first, None, " ms", "≤ 50 ms", first, first <= 50))
                if how == "common":
                    ratio, what = hundredth[0] / hundredth[1], f"page 100 of it, against the first, {where}"
                    results.append(Result(what, *hundredth, " ms", "≤ 1.2", ratio, ratio <= 1.2))
    pairs, costs, waits, paced = [], [], [], []
    for _ in range(rounds):
        rates, at_pace = {}, {}
        for search in ("on", "off"):
            with bench.service(NESTREL_SEARCH=search) as service:
                meter = Meter(bench, service)
                posted = asyncio.run(posts_over_sockets(service, 200, seconds, meter=meter))
                rates[search] = posted, meter.spent.ours
            with bench.service(NESTREL_SEARCH=search) as service:
                at_pace[search] = asyncio.run(at_a_pace(bench, service, seconds))
        pairs.append((rates["on"][0], rates["off"][0]))
        costs.append((rates["on"][1], rates["off"][1]))
        waits.append((at_pace["on"][0], at_pace["off"][0]))
        paced.append((at_pace["on"][1], at_pace["off"][1]))
    results.append(summary("posts/s with the search index, against without", pairs, "/s", "≥ 0.9", lambda r: r >= 0.9))
    results.append(summary("CPU of a post with it, against without", costs, " µs", "≤ 1.15", lambda r: r <= 1.15))
    at = f"at {PACE:,} posts/s with it, against without"
    results.append(summary(f"p99 of a post {at}", waits, " ms", "≤ 1.2", lambda r: r <= 1.2))
    results.append(summary(f"CPU of a post {at}", paced, " µs", "≤ 1.15", lambda r: r <= 1.15))
    return results


async def _index(bench: Bench) -> float:
    """Messages a second of one process that does nothing else."""
    database = Database(bench.url)
    try:
        indexer, begun = Indexer(database), time.perf_counter()
        while True:
            await indexer.step()
            if not indexer.left:
                return (_ALL + _PLACES * _EACH) / (time.perf_counter() - begun)
    finally:
        await database.close()


def _answers(service: Process, who: str, word: str) -> tuple[float, tuple[float, float]]:
    """The 95th percentile of first pages, and the medians of the hundredth page and of the first, in ms."""
    headers = {"Authorization": f"Bearer {token(who)}"}
    with httpx.Client(base_url=f"http://127.0.0.1:{service.port}/v1", headers=headers, timeout=60) as http:

        def ask(**query: str | int | None) -> tuple[float, str | None]:
            begun = time.perf_counter()
            answer = http.get("/search", params={"limit": 50, **query})
            answer.raise_for_status()
            return (time.perf_counter() - begun) * 1e3, answer.json()["next"]

        first = sorted(ask(q=word)[0] for _ in range(_CALLS))
        cursor, deep = ask(q=word)[1], None
        for _ in range(98):
            if cursor is None:
                return first[int(_CALLS * 0.95)], (first[0], first[0])
            deep, (_, cursor) = cursor, ask(cursor=cursor)
        later = [ask(cursor=cursor or deep)[0] for _ in range(_CALLS // 2)]
        return first[int(_CALLS * 0.95)], (statistics.median(later), statistics.median(first))
