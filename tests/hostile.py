"""What somebody who means harm sends to a service on this machine, bounded in count and time: `script/hostile`.

Each attack prints what it cost: memory before, while it lasts, and after; the slowest `/healthz` meanwhile; and what
became of it. The service is one of its own, on a database of its own, and only loopback is ever a target.
"""

from __future__ import annotations

import argparse
import asyncio
import contextlib
import os
import random
import ssl
import statistics
import threading
import time
from collections.abc import Awaitable, Callable
from contextlib import asynccontextmanager
from typing import Any, NamedTuple

import asyncpg
import httpx
import psutil
from sqlalchemy.engine import make_url
from websockets.asyncio.client import connect
from websockets.exceptions import ConnectionClosed

from tests import generated
from tests.support import Person, Served, own_cluster, until

HEAD = "GET /v1/me HTTP/1.1\r\nHost: 127.0.0.1\r\n"


class Raw:
    """One TCP connection on which anything can be said."""

    def __init__(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.reader, self.writer = reader, writer

    @classmethod
    async def open(cls, served: Served) -> Raw:
        return cls(*await asyncio.open_connection("127.0.0.1", served.port))

    async def say(self, *parts: str | bytes) -> None:
        for part in parts:
            self.writer.write(part.encode() if isinstance(part, str) else part)
            await self.writer.drain()

    async def status(self, seconds: float = 30) -> int:
        """The status of the answer; 0 when the connection ends without one."""
        try:
            async with asyncio.timeout(seconds):
                line = await self.reader.readline()
        except (ConnectionError, ssl.SSLError):
            return 0
        return int(line.split()[1]) if line else 0

    async def ended(self, seconds: float = 60) -> None:
        """Wait until the other side has closed it."""
        async with asyncio.timeout(seconds):
            try:
                while await self.reader.read(65536):
                    pass
            except ConnectionError:
                pass

    def close(self) -> None:
        self.writer.close()


def nested(size: int) -> bytes:
    """A JSON list of empty lists: small on the wire, and large once it is parsed."""
    return b"[" + b",".join([b"[]"] * (size // 3)) + b"]"


BOMB = nested(31_000_000)
"""Made before anything is measured."""


async def bomb(served: Served, *, body: bytes = BOMB, headers: str = "", path: str = "messages/batch") -> int:
    """A large body of very many values; the status of its answer."""
    raw = await Raw.open(served)
    where = f"POST /v1/conversations/00000000-0000-7000-8000-000000000000/{path} HTTP/1.1\r\nHost: 127.0.0.1\r\n"
    with contextlib.suppress(ConnectionError):  # it was refused before all of it was there
        await raw.say(where + headers + f"Content-Length: {len(body)}\r\nContent-Type: application/json\r\n\r\n", body)
    status = await raw.status()
    raw.close()
    return status


async def first_frames(
    served: Served, count: int, frames: tuple[str, ...] = ('{"type":"sign_in"}',)
) -> list[int | None]:
    """Sockets whose first frame is no way in, and whose client then says nothing; the codes that close them."""
    codes: list[int | None] = []
    gate = asyncio.Semaphore(50)

    async def one(frame: str) -> None:
        async with gate, connect(f"ws://127.0.0.1:{served.port}/v1/live") as raw:
            await raw.send(frame)
            try:
                while True:
                    await asyncio.wait_for(raw.recv(), 30)
            except ConnectionClosed:
                codes.append(raw.close_code)

    await asyncio.gather(*(one(frames[n % len(frames)]) for n in range(count)))
    return codes


async def half_open(served: Served, count: int) -> tuple[float, list[int]]:
    """Requests of which only a part comes: of the headers for half of them, of the body for the others. Seconds until
    the last of them is gone, and how they were answered."""
    rows = [await Raw.open(served) for _ in range(count)]
    for n, raw in enumerate(rows):
        if n % 2:
            await raw.say(HEAD)
        else:
            await raw.say("POST /v1/resync HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 100\r\n\r\n{")
    began = time.monotonic()
    statuses = await asyncio.gather(*(raw.status(60) for raw in rows))
    await asyncio.gather(*(raw.ended() for raw in rows))
    for raw in rows:
        raw.close()
    return time.monotonic() - began, statuses


async def never_signed_in(served: Served, count: int) -> float:
    """Sockets that say nothing until they are closed; the slowest post of somebody else's meanwhile, in seconds."""
    odd = Person(served.url, "odd")
    place = (await odd.make())["id"]
    address = "ws" + served.url[4:] + "/v1/live"
    opened = [await connect(address, open_timeout=60) for _ in range(count)]
    slowest = 0.0
    waiting = asyncio.gather(*(one.wait_closed() for one in opened))
    while not waiting.done():
        begun = time.perf_counter()
        assert (await odd.post(place)).status_code == 201
        slowest = max(slowest, time.perf_counter() - begun)
        await asyncio.wait({waiting}, timeout=0.1)
    assert {one.close_code for one in opened} == {4401}
    await odd.http.aclose()
    return slowest


async def held_row(served: Served, url: str) -> tuple[float, float]:
    """Somebody holds one conversation's row: the median and the slowest of 200 posts to another one meanwhile."""
    mara = Person(served.url, "mara")
    held, free = (await mara.make())["id"], (await mara.make())["id"]
    stranger = await asyncpg.connect(make_url(url).render_as_string(hide_password=False))
    waiting: list[asyncio.Task[Any]] = []
    times = []
    try:
        async with stranger.transaction():
            await stranger.execute("SELECT FROM nestrel.conversations WHERE id = $1 FOR UPDATE", held)
            waiting = [asyncio.create_task(mara.post(held, f"{n}", key=f"{n}")) for n in range(20)]
            for n in range(200):
                began = time.perf_counter()
                assert (await mara.post(free, f"{n}")).status_code == 201
                times.append(time.perf_counter() - began)
    finally:
        await asyncio.gather(*waiting, return_exceptions=True)
        await stranger.close()
    await mara.http.aclose()
    return statistics.median(times), max(times)


async def headers(served: Served) -> list[int]:
    """Headers that are too large, too many, or without an end."""
    found = []
    for parts in (
        ["X-Large: " + "x" * 40_000, "\r\n\r\n"],
        ["".join(f"X-{n}: y\r\n" for n in range(101)), "\r\n"],
        ["X-Endless: ", *["x" * 65_536] * 20],
    ):
        raw = await Raw.open(served)
        with contextlib.suppress(ConnectionError):  # it may be refused before all of it was there
            await raw.say(HEAD, *parts)
        found.append(await raw.status())
        raw.close()
    return found


_AWKWARD = ("\\1", ";=", " ", "a=", ",", '"', "%00", 'for="', '\\"', "q=0.1;", "=?", "[", ":")
_HEADERS = (
    "Cookie", "Authorization", "Content-Type", "Content-Disposition", "Content-Digest", "If-Match", "If-None-Match",
    "If-Range", "Range", "Forwarded", "X-Forwarded-For", "Accept", "Accept-Encoding", "Accept-Language",
    "Idempotency-Key", "Last-Event-ID", "Origin", "Referer", "Traceparent", "Tracestate", "X-Request-ID", "Expect",
    "Sec-WebSocket-Protocol", "Sec-WebSocket-Extensions", "Sec-WebSocket-Key", "Link", "Prefer", "Range-Unit",
)  # fmt: skip


async def hard_headers(served: Served, signed: str) -> dict[str, float]:
    """Every header with 28 KB of what parsers find hard, to a page and to an upload, from a stranger and from a
    member; seconds of the service's CPU time that the hardest value of each took."""
    process, found = psutil.Process(served.process.pid), dict[str, float]()

    def spent() -> float:
        times = process.cpu_times()
        return float(times.user + times.system)

    for name in _HEADERS:
        for text in _AWKWARD:
            value = ("nestrel=" if name == "Cookie" else "") + '"' + text * (28_000 // len(text)) + '"'
            before = spent()
            for line in ("GET /v1/me", "POST /v1/conversations/00000000-0000-7000-8000-000000000000/attachments"):
                for known in ("", signed) if name != "Authorization" else ("",):
                    raw = await Raw.open(served)
                    await raw.say(f"{line} HTTP/1.1\r\nHost: 127.0.0.1\r\n{known}{name}: {value}\r\n\r\n")
                    await raw.status()
                    raw.close()
            found[name] = max(found.get(name, 0.0), spent() - before)
    return found


async def unread(served: Served, count: int) -> float:
    """Pages of 1.6 MB that nobody reads; seconds until the service has cut them."""
    mara = Person(served.url, "mara")
    place = (await mara.make())["id"]
    for _ in range(4):
        messages = [{"key": os.urandom(8).hex(), "body": "⚓" * 8_000} for _ in range(50)]
        await mara.http.post(f"/conversations/{place}/messages/batch", json={"messages": messages})
    rows = [await Raw.open(served) for _ in range(count)]
    ask = f"GET /v1/conversations/{place}/messages?limit=200 HTTP/1.1\r\nHost: 127.0.0.1\r\n"
    for raw in rows:
        await raw.say(ask + f"Authorization: Bearer {mara.token}\r\n\r\n")
        raw.writer.transport.pause_reading()  # type: ignore[attr-defined]  # a socket's transport reads
    began = time.monotonic()
    process = psutil.Process(served.process.pid)

    def left() -> int:
        return sum(c.status == "ESTABLISHED" and c.laddr.port == served.port for c in process.net_connections("tcp"))

    await asyncio.to_thread(until, lambda: left() <= 5, seconds=90)
    for raw in rows:
        raw.close()
    await mara.http.aclose()
    return time.monotonic() - began


class Cost(NamedTuple):
    """Memory of the service in MB, and the slowest `/healthz` in milliseconds."""

    before: float
    during: float
    after: float
    healthz: float


async def measured(served: Served, attack: Callable[[], Awaitable[Any]]) -> tuple[Cost, Any]:
    process = psutil.Process(served.process.pid)

    def memory() -> float:
        return process.memory_info().rss / 1e6

    before, most, slowest, over = memory(), 0.0, 0.0, False
    looked = threading.Event()

    async def one_look() -> None:
        """Until one that begins from now on is over; the one under way may be of before."""
        for _ in range(2):
            looked.clear()
            assert await asyncio.to_thread(looked.wait, 60)

    def watch() -> None:
        """In a thread of its own, so that the attacks' own work is not taken for the service's."""
        nonlocal most, slowest
        with httpx.Client(base_url=served.url, timeout=60) as http:
            while not over:
                began = time.perf_counter()
                assert http.get("/healthz").status_code == 200
                slowest = max(slowest, time.perf_counter() - began)
                most = max(most, memory())
                looked.set()
                time.sleep(0.01)

    watching = asyncio.create_task(asyncio.to_thread(watch))
    await one_look()
    result = await attack()
    await one_look()
    over = True
    await watching
    return Cost(before, most, memory(), slowest * 1_000), result


async def sessions(served: Served) -> float:
    """Open WebSockets, as the service counts them."""
    async with httpx.AsyncClient() as http:
        text = (await http.get(served.url + "/metrics")).text
    return float(next(line for line in text.splitlines() if line.startswith("nestrel_connections ")).split()[1])


@asynccontextmanager
async def target() -> Any:
    async with own_cluster("hostile") as postgres:
        url = postgres.url("hostile")
        with Served(url) as served:
            await asyncio.to_thread(served.wait_ready)
            yield served, url


async def run(scale: float) -> None:
    first = ('{"type":"sign_in"}', '{"type":"sign_in","token":7}', "[]", "not json", '{"type":"post"}')
    many, open_, pages = (max(1, round(n * scale)) for n in (3_000, 1_000, 60))
    async with target() as (served, url):
        mara = Person(served.url, "mara")
        await mara.http.get("/me")
        signed = f"Authorization: Bearer {mara.token}\r\n"
        await first_frames(served, 50)  # so that what a service makes once is not counted
        await bomb(served, body=nested(1_000_000))
        print(f"{'attack':44} {'MB before':>9} {'during':>7} {'after':>7} {'healthz ms':>10}  what became of it")

        async def show(name: str, attack: Callable[[], Awaitable[Any]], words: Callable[[Any], str]) -> None:
            cost, result = await measured(served, attack)
            memory = f"{cost.before:9.1f} {cost.during:7.1f} {cost.after:7.1f}"
            print(f"{name:44} {memory} {cost.healthz:10.0f}  {words(result)}", flush=True)

        await show("31 MB of [[],…] without a token", lambda: bomb(served), lambda status: f"answered {status}")
        await show("the same with a member's token", lambda: bomb(served, headers=signed), lambda s: f"answered {s}")
        await show(
            "headers of 40 KB, 101 of them, without end", lambda: headers(served), lambda found: f"answered {found}"
        )
        await show(
            "every header with 28 KB that is hard to read",
            lambda: hard_headers(served, signed),
            lambda found: "hardest: {} with {:.2f} s of CPU for four".format(*max(found.items(), key=lambda x: x[1])),
        )
        await show(
            f"{many:,} first frames that are no way in",
            lambda: first_frames(served, many, first),
            lambda codes: f"closed with {sorted(set(map(str, codes)))}",
        )
        print(f"{'':44} sessions left: {await sessions(served):.0f}")
        await show(
            f"{open_:,} requests that stay half open",
            lambda: half_open(served, open_),
            lambda found: f"gone after {found[0]:.1f} s, answered {sorted(set(found[1]))}",
        )
        await show(f"{pages} pages that nobody reads", lambda: unread(served, pages), lambda s: f"cut after {s:.1f} s")
        await show(
            "one row that somebody holds",
            lambda: held_row(served, url),
            lambda found: f"others' posts: median {found[0] * 1000:.1f} ms, slowest {found[1] * 1000:.0f} ms",
        )
        cast, dice = await generated.Cast(served).gather(), random.Random(1)
        asked = max(100, round(50_000 * scale))
        await show(
            f"{asked:,} generated requests, every role",
            lambda: generated.requests(cast, asked, dice),
            lambda found: f"answered {dict(sorted(found.items()))}",
        )
        await show(
            f"{asked:,} generated frames, every role",
            lambda: generated.frames(cast, asked, dice),
            lambda found: f"{found:,} answered",
        )
        silent = max(1, round(2_000 * scale))
        await show(
            f"{silent:,} sockets that never sign in",
            lambda: never_signed_in(served, silent),
            lambda slowest: f"others' posts: slowest {slowest * 1000:.0f} ms; closed with 4401",
        )
        for who in (mara, *cast.people):
            await who.http.aclose()


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--scale", type=float, default=1.0, help="how much of each, up to 1")
    chosen = parser.parse_args()
    random.seed(1)
    asyncio.run(run(min(1.0, max(0.01, chosen.scale))))


if __name__ == "__main__":
    main()
