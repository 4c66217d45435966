"""Coming back: nothing moved, a little moved, many edits of few rows, many new messages into a file, all at once."""

from __future__ import annotations

import asyncio
import http.client
import resource
import statistics
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import orjson

from bench.harness import Bench, Process, Result, token
from bench.posts import make_conversations, sign_in, summary
from bench.wire import Wire
from nestrel.client import AsyncClient

_MANY, _FEW, _MOVED = 1_000, 20, 10
_EDITS, _EDITED = 100_000, 100
_NEW = 100_000
_FOLLOWERS = 1_000

_GROW = """
INSERT INTO nestrel.messages (conversation_id, seq, rev, author_n, created_at, author_id, body, format)
SELECT c.id, c.head + n, c.rev + n, n, now(), 'harbour-office', repeat('tide ', 24), 'plain'
FROM nestrel.conversations c, generate_series(1, {count}) n WHERE c.id = '{place}';
UPDATE nestrel.conversations SET head = head + {count}, rev = rev + {count}, message_count = message_count + {count},
       moved_xid = pg_current_xact_id() WHERE id = '{place}'
"""
_EDIT = """
DO $$ BEGIN FOR n IN 1..{turns} LOOP
    UPDATE nestrel.messages SET rev = rev + 1000 * n, changed = true, edits = edits + 1, body = 'tide ' || n,
           moved_xid = pg_current_xact_id() WHERE conversation_id = '{place}';
    COMMIT;
END LOOP; END $$;
UPDATE nestrel.conversations SET rev = (SELECT max(rev) FROM nestrel.messages WHERE conversation_id = '{place}'),
       moved_xid = pg_current_xact_id() WHERE id = '{place}'
"""


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    with bench.service() as service, bench.floors() as floors:
        return [*_quiet(service, floors, rounds, seconds), *_moved(service, rounds), _edits(bench, service),
                _new(bench, service, rounds), _storm(service)]  # fmt: skip


class _Caller:
    """One kept connection, as thin as the standard library has it."""

    def __init__(self, port: int, user: str) -> None:
        self._http = http.client.HTTPConnection("127.0.0.1", port)
        self._headers = {"Authorization": f"Bearer {token(user)}", "Content-Type": "application/json"}

    def call(self, method: str, path: str, body: object = None) -> bytes:
        content = orjson.dumps(body) if body is not None else None
        try:
            self._http.request(method, path, content, self._headers)
            answer = self._http.getresponse()
        except http.client.RemoteDisconnected:  # the server does not keep an idle connection for ever
            self._http.request(method, path, content, self._headers)
            answer = self._http.getresponse()
        content = answer.read()
        assert answer.status < 300, content[:300]
        return content

    def resync(self, cursor: str | None) -> dict:  # type: ignore[type-arg]  # whatever the answer holds
        answer: dict = orjson.loads(self.call("POST", "/v1/resync", {"cursor": cursor} if cursor else {}))  # type: ignore[type-arg]  # the same
        return answer

    def whole(self) -> str:
        """Resync from nothing; returns the cursor."""
        cursor: str | None = None
        more = True
        while more:
            answer = self.resync(cursor)
            cursor, more = answer["cursor"], answer["more"]
        assert cursor is not None
        return cursor


def _timed(work: Callable[[], object]) -> float:
    begun = time.perf_counter()
    work()
    return time.perf_counter() - begun


def _quiet(service: Process, floors: Process, rounds: int, seconds: int) -> list[Result]:
    asyncio.run(make_conversations(service, _MANY, ["many"]))
    caller, bare = _Caller(service.port, "many"), _Caller(floors.port, "many")
    bare.call("PUT", "/page", {})
    cursor = caller.whole()
    pairs, bare_pairs = [], []
    for _ in range(rounds):
        ours, theirs, least = [], [], []
        for _ in range(100 * seconds):
            ours.append(_timed(lambda: caller.resync(cursor)))
            theirs.append(_timed(lambda: caller.call("GET", "/v1/me")))
            least.append(_timed(lambda: bare.call("GET", "/page")))
        took = statistics.median(ours) * 1e3
        pairs.append((took, statistics.median(theirs) * 1e3))
        bare_pairs.append((took, statistics.median(least) * 1e3))
    return [
        summary("resync of 1,000 conversations, none moved, against an authenticated GET /v1/me", pairs, " ms", "≤ 1.5",
                lambda ratio: ratio <= 1.5),
        summary("the same against a FastAPI route with the token check and no store", bare_pairs, " ms", "—",
                lambda ratio: True),
    ]  # fmt: skip


def _moved(service: Process, rounds: int) -> list[Result]:
    """The same ten conversations move for both members; one has ten others, the other 990."""
    shared = asyncio.run(make_conversations(service, _MOVED, ["many", "few"]))
    asyncio.run(make_conversations(service, _FEW - _MOVED, ["few"]))
    many, few, office = (_Caller(service.port, user) for user in ("many", "few", "harbour-office"))
    at, at_few = many.whole(), few.whole()
    pairs = []
    for _ in range(rounds):
        times: tuple[list[float], list[float]] = ([], [])
        for _ in range(15):
            for place in shared:
                office.call("POST", f"/v1/conversations/{place}/messages", {"body": "moved"})
            times[0].append(_timed(lambda: many.resync(at)))
            times[1].append(_timed(lambda: few.resync(at_few)))
        pairs.append((statistics.median(times[0]) * 1e3, statistics.median(times[1]) * 1e3))
    assert len(many.resync(at)["items"]) == len(few.resync(at_few)["items"]) == _MOVED
    return [
        summary("resync of 1,000 conversations, 10 moved, against 20 with 10 moved", pairs, " ms", "≤ 1.5",
                lambda ratio: ratio <= 1.5)
    ]  # fmt: skip


def _edits(bench: Bench, service: Process) -> Result:
    place = asyncio.run(make_conversations(service, 1, ["away"]))[0]
    bench.sql(*_GROW.format(place=place, count=_EDITED).split(";"))
    caller = _Caller(service.port, "away")
    cursor = caller.whole()
    edit, move = _EDIT.format(place=place, turns=_EDITS // _EDITED).rsplit(";\n", 1)
    bench.sql(edit, move)
    answer = caller.resync(cursor)
    rows = sum(len(item["messages"]) for item in answer["items"])
    assert not answer["more"]
    return Result("rows for 100,000 edits of 100 messages", rows, None, "", "100", rows, rows == _EDITED)


def _new(bench: Bench, service: Process, rounds: int) -> Result:
    """100,000 new messages into a replica's file; the client's own work is half of it."""
    rates = []
    for n in range(rounds):
        user = f"absent-{n}"
        place = asyncio.run(make_conversations(service, 1, [user]))[0]
        with tempfile.TemporaryDirectory(prefix="nestrel-replica-") as folder:
            rates.append(asyncio.run(_fetched(bench, service, place, user, Path(folder) / "replica.db")))
    rate = statistics.median(rates)
    return Result("messages/s, 100,000 new ones into a replica on disk", rate, None, "/s", "≥ 20,000", rate,
                  rate >= 20_000)  # fmt: skip


async def _fetched(bench: Bench, service: Process, place: str, user: str, path: Path) -> float:
    async with AsyncClient(f"http://127.0.0.1:{service.port}", token(user)) as client:
        replica = client.replica(path)
        await replica.resync()
        await asyncio.to_thread(bench.sql, *_GROW.format(place=place, count=_NEW).split(";"), "ANALYZE messages")
        report = await replica.resync()
        assert replica.counts()[1] == _NEW, (report, replica.counts())
        replica.file.close()
        return _NEW / report.seconds


def _storm(service: Process) -> Result:
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(hard, 8192), hard))
    try:
        took, grown = asyncio.run(_reconnected(service))
    finally:
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))
    what = f"seconds until 1,000 followers cut at once are current again (memory {grown:+.0f} MB after)"
    return Result(what, took, None, " s", "≤ 5", took, took <= 5)


async def _reconnected(service: Process) -> tuple[float, float]:
    everyone = [f"deck-{n}" for n in range(_FOLLOWERS)]
    place = (await make_conversations(service, 1, everyone[1:]))[0]
    office = _Caller(service.port, "harbour-office")
    office.call("PUT", f"/v1/conversations/{place}/members/{everyone[0]}", {})
    cursors: dict[str, str] = {}
    wires = await asyncio.gather(*(_following(service, user, None, cursors) for user in everyone))
    before = service.memory
    for wire in wires:
        assert wire.transport is not None
        wire.transport.abort()
    await asyncio.gather(*(wire.lost for wire in wires))
    office.call("POST", f"/v1/conversations/{place}/messages", {"body": "while all were away"})
    begun = time.perf_counter()
    await asyncio.gather(*(_current(service, user, cursors[user]) for user in everyone))
    took = time.perf_counter() - begun
    return took, (service.memory - before) / 1e6


async def _following(service: Process, user: str, cursor: str | None, cursors: dict[str, str]) -> Wire:
    wire = await sign_in(service, user)
    done = wire.first()
    wire.send(orjson.dumps({"type": "follow_all", **({"cursor": cursor} if cursor else {})}))
    cursors[user] = orjson.loads(await done)["cursor"]
    return wire


async def _current(service: Process, user: str, cursor: str) -> None:
    """Come back, and wait for what was missed."""
    wire = await sign_in(service, user)
    there: asyncio.Future[None] = asyncio.get_running_loop().create_future()

    def receive(payload: bytes) -> None:
        if b"while all were away" in payload and not there.done():
            there.set_result(None)
        assert b'"refused"' not in payload, payload

    wire.on_frame = receive
    wire.send(orjson.dumps({"type": "follow_all", "cursor": cursor}))
    await there
    wire.close()
