"""`script/bench scale`: what each operation costs as the store and a member's conversations grow."""

from __future__ import annotations

import asyncio
import http.client
import statistics
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from uuid import UUID, uuid4

import asyncpg
import orjson

from bench.harness import Bench, Process, token

MEMBERSHIPS = (100, 1_000, 10_000)
MESSAGES = (100_000, 1_000_000, 10_000_000)
_TURNS = 200
_OFFICE = "harbour-office"

# Made by COPY and by the server itself: through the service ten million would take the better part of an hour.
_CONVERSATIONS = """
INSERT INTO nestrel.conversations (id, kind, visibility, title, created_by, created_at, rev, own_rev, last_at,
    member_count, head, message_count, kept_bytes, epochs, begins)
SELECT id, 'group', 'closed', 'Berth ' || n, '{office}', now(), 2, 1, now() - n * interval '1 second', 2, 1, 1, 120,
    ARRAY[(SELECT e.id FROM nestrel.epochs e ORDER BY e.n DESC LIMIT 1)], ARRAY[0::bigint]
FROM (SELECT gen_random_uuid() AS id, n FROM generate_series(1, {count}) n) g
"""
_FILL = """
WITH made AS (SELECT id, created_at FROM nestrel.conversations WHERE title LIKE 'Berth %' AND NOT EXISTS (
    SELECT FROM nestrel.members WHERE conversation_id = id)),
people AS (INSERT INTO nestrel.members (conversation_id, user_id, role, joined_at, rev)
    SELECT id, who, role, created_at, 1 FROM made, (VALUES ('{user}', 'writer'), ('{office}', 'owner')) p (who, role))
INSERT INTO nestrel.messages (conversation_id, seq, rev, author_n, created_at, author_id, body, format)
SELECT id, 1, 2, 1, created_at, '{office}', repeat('tide ', 24), 'plain' FROM made
"""
_COLUMNS = ("conversation_id", "seq", "rev", "author_n", "created_at", "author_id", "key_hash", "body", "format")


@dataclass(frozen=True, slots=True)
class Cost:
    """The median time of one call, and the CPU time of one in the service and in PostgreSQL, in milliseconds."""

    clock: float
    service: float
    postgres: float


class Caller:
    """One kept connection of a member."""

    def __init__(self, bench: Bench, service: Process, user: str) -> None:
        self._bench = bench
        self._service = service
        self._http = http.client.HTTPConnection("127.0.0.1", service.port)
        self._headers = {"Authorization": f"Bearer {token(user)}", "Content-Type": "application/json"}

    def call(self, method: str, path: str, body: object = None) -> bytes:
        self._http.request(method, path, orjson.dumps(body) if body is not None else None, self._headers)
        answer = self._http.getresponse()
        content = answer.read()
        assert answer.status < 300, content[:300]
        return content

    def cost(self, *call: object, fresh: Callable[[], object] | None = None) -> Cost:
        """What a call costs; the first ones, which fill caches, are not counted. `fresh` makes each one's body."""
        times = []
        for n in range(-10, _TURNS):
            if n == 0:
                service, postgres = self._service.cpu, self._bench.cpu
            body = (fresh(),) if fresh is not None else ()
            begun = time.perf_counter()
            self.call(*call, *body)  # type: ignore[arg-type]  # method, path and body
            if n >= 0:
                times.append(time.perf_counter() - begun)
        each = 1e3 / _TURNS
        return Cost(statistics.median(times) * 1e3, (self._service.cpu - service) * each,
                    (self._bench.cpu - postgres) * each)  # fmt: skip


def _row(what: str, size: int, cost: Cost, least: Cost) -> str:
    return (
        f"| {what} | {size:,} | {cost.clock:.2f} ms | {cost.service:.2f} ms | {cost.postgres:.2f} ms | "
        f"{cost.clock / least.clock:.2f} | {(cost.service + cost.postgres) / (least.service + least.postgres):.2f} |"
    )


def _memberships(bench: Bench, sizes: tuple[int, ...]) -> Iterator[str]:
    for size in sizes:
        made = _CONVERSATIONS.format(office=_OFFICE, count=size)
        bench.sql(made, _FILL.format(user=f"crew-{size}", office=_OFFICE))
    bench.sql("VACUUM ANALYZE nestrel.conversations", "VACUUM ANALYZE nestrel.members")
    with bench.service() as service:
        least: dict[str, Cost] = {}
        for size in sizes:
            caller = Caller(bench, service, f"crew-{size}")
            whole, more = None, True
            while more:
                answer = orjson.loads(caller.call("POST", "/v1/resync", {"cursor": whole} if whole else {}))
                whole, more = answer["cursor"], answer["more"]
            found = {
                "list of 50": caller.cost("GET", "/v1/conversations?limit=50"),
                "resync that finds nothing": caller.cost("POST", "/v1/resync", {"cursor": whole}),
                "GET /v1/me, beside it": caller.cost("GET", "/v1/me"),
            }
            for what, cost in found.items():
                yield _row(what, size, cost, least.setdefault(what, cost))


async def _copy(url: str, place: UUID, first: int, last: int) -> None:
    connection = await asyncpg.connect(url)
    at = await connection.fetchval("SELECT now()")
    body = "The Corran lies at berth 3 with her bow visor open; two vans of lost property wait. " * 2

    def rows() -> Iterator[tuple[object, ...]]:
        for seq in range(first, last + 1):
            yield place, seq, seq + 1, seq, at, _OFFICE, uuid4().bytes, body[:120], "plain"

    await connection.copy_records_to_table("messages", schema_name="nestrel", columns=_COLUMNS, records=rows())
    await connection.execute(
        "UPDATE nestrel.conversations SET head = n, rev = n + 1, message_count = n, kept_bytes = 120 * n, "
        "moved_xid = pg_current_xact_id() FROM CAST($2 AS bigint) n WHERE id = $1", place, last,
    )  # fmt: skip
    await connection.execute("VACUUM ANALYZE nestrel.messages", timeout=1200)
    await connection.close()


def _messages(bench: Bench, sizes: tuple[int, ...]) -> Iterator[str]:
    with bench.service() as service:
        office = Caller(bench, service, _OFFICE)
        place = orjson.loads(office.call("POST", "/v1/conversations", {}))["id"]
    least: dict[str, Cost] = {}
    filled = 0
    for size in sizes:
        asyncio.run(_copy(bench.url, UUID(place), filled + 1, size))
        filled = size
        path = f"/v1/conversations/{place}/messages"
        with bench.service() as service:
            office = Caller(bench, service, _OFFICE)
            found = {
                "newest page": office.cost("GET", path),
                "page from the middle": office.cost("GET", f"{path}?before={size // 2}"),
                "post": office.cost("POST", path, fresh=lambda: {"body": "tide " * 24}),
            }
            filled += _TURNS + 10
        for what, cost in found.items():
            yield _row(what, size, cost, least.setdefault(what, cost))


def measure(bench: Bench, most: int) -> Iterator[str]:
    """The lines of a table; conversations of up to `most` messages."""
    yield "| what | size | clock | CPU, service | CPU, PostgreSQL | clock, against the least | CPU, against the least |"
    yield "|---|---|---|---|---|---|---|"
    yield from _memberships(bench, MEMBERSHIPS)
    yield from _messages(bench, tuple(size for size in MESSAGES if size <= most))
