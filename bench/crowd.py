"""What many do to one: receipts of a crowd beside posts of one conversation, and a second worker beside the first."""

from __future__ import annotations

import asyncio
import time
from uuid import uuid4

from bench.harness import Bench, Meter, Process, Result
from bench.posts import BODY, make_conversations, posts_over_sockets, sign_in, summary
from bench.wire import Wire

_MEMBERS = 10_000
_READERS = 250
"""Sockets of as many members; the others only count as members."""
_POSTS_A_SECOND, _RECEIPTS_A_SECOND = 100, 1_000
PACE, _WIRES = 2_000, 8
_JOIN = """
INSERT INTO nestrel.members (conversation_id, user_id, role, joined_at, rev)
SELECT '{place}', 'deck-' || n, 'writer', now(), 1 FROM generate_series({first}, {last}) n
ON CONFLICT DO NOTHING
"""


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    waits, workers = [], []
    for _ in range(rounds):
        with bench.service() as service:
            waits.append(asyncio.run(_crowd(bench, service, seconds)))
        each = []
        for count in (2, 1):
            with bench.service(workers=count) as service:
                meter = Meter(bench, service)
                asyncio.run(posts_over_sockets(service, 200, seconds, meter=meter))
                each.append(1e6 / meter.spent.service)
        workers.append((each[0], each[1]))
    return [
        summary("p99 of a post beside 1,000 receipts a second of 10,000 members, against without", waits, " ms",
                "≤ 1.3", lambda ratio: ratio <= 1.3),
        summary("posts for a CPU second of the service, 2 workers against 1", workers, "", "≥ 0.95",
                lambda ratio: ratio >= 0.95),
    ]  # fmt: skip


async def _crowd(bench: Bench, service: Process, seconds: float) -> tuple[float, float]:
    """The 99th percentile in ms of posts that are offered at a fixed pace, beside receipts and without."""
    readers = [f"deck-{n}" for n in range(_READERS)]
    [place] = await make_conversations(service, 1, ["mara", *readers])
    join = _JOIN.format(place=place, first=_READERS, last=_MEMBERS)
    await asyncio.to_thread(bench.sql, join, "ANALYZE nestrel.members")
    author = await sign_in(service, "mara")
    wires = [await sign_in(service, user) for user in readers]
    head = len(await posts_at_a_pace(author, place, 1.0))  # warm
    alone, beside = list[float](), list[float]()
    for _ in range(3):  # in turn: the disk of a shared machine has its moods
        alone += await posts_at_a_pace(author, place, seconds / 3)
        stands = head + len(alone) + len(beside)
        reading = asyncio.ensure_future(_read(wires, place, stands, seconds / 3))
        beside += await posts_at_a_pace(author, place, seconds / 3)
        await reading
    for wire in (author, *wires):
        wire.close()
    return p99(beside), p99(alone)


def p99(waits: list[float]) -> float:
    return sorted(waits)[int(len(waits) * 0.99)] * 1e3


async def posts_at_a_pace(wire: Wire, place: str, seconds: float, pace: int = _POSTS_A_SECOND) -> list[float]:
    """How long each answer took, from the moment at which its post was due."""
    count = int(seconds * pace)
    due, waits, answered = dict[int, float](), list[float](), asyncio.Event()

    def receive(payload: bytes) -> None:
        assert payload.startswith(b'{"type":"done"'), payload
        waits.append(time.perf_counter() - due.pop(int(payload[21:].split(b",", 1)[0])))
        if len(waits) == count:
            answered.set()

    wire.on_frame = receive
    begun = time.perf_counter()
    for number in range(count):
        due[number] = begun + number / pace
        await asyncio.sleep(max(0.0, due[number] - time.perf_counter()))
        wire.send(
            b'{"type":"post","ref":%d,"conversation_id":"%s","key":"%s","body":"%s"}'
            % (number, place.encode(), uuid4().hex.encode(), BODY.encode())
        )
    async with asyncio.timeout(60):
        await answered.wait()
    return waits


async def _read(wires: list[Wire], place: str, stands: int, seconds: float) -> None:
    """Receipts at a fixed pace, a little behind the newest message, which was number `stands` at first."""
    begun = time.perf_counter()
    for number in range(int(seconds * _RECEIPTS_A_SECOND)):
        await asyncio.sleep(max(0.0, begun + number / _RECEIPTS_A_SECOND - time.perf_counter()))
        seq = stands + max(0, number * _POSTS_A_SECOND // _RECEIPTS_A_SECOND - 10)
        frame = b'{"type":"read","ref":%d,"conversation_id":"%s","read_seq":%d}' % (number, place.encode(), seq)
        wires[number % len(wires)].send(frame)


async def at_a_pace(bench: Bench, service: Process, seconds: float) -> tuple[float, float]:
    """The 99th percentile in ms of posts at a fixed pace over some conversations, and the CPU time of one."""
    places = await make_conversations(service, _WIRES, ["paced"])
    wires = [await sign_in(service, "paced") for _ in places]
    pace = PACE // _WIRES
    for warm in (True, False):
        meter = Meter(bench, service)
        posting = [
            posts_at_a_pace(wire, place, 1.0 if warm else seconds, pace)
            for wire, place in zip(wires, places, strict=True)
        ]
        waits = [wait for some in await asyncio.gather(*posting) for wait in some]
        meter.end(len(waits))
    for wire in wires:
        wire.close()
    return p99(waits), meter.spent.ours
