"""Files: how fast they come and go, in how much memory, and what a picture costs those who post meanwhile."""

from __future__ import annotations

import asyncio
import io
import os
import tempfile
import time
from collections.abc import AsyncIterator, Iterator

import httpx
from PIL import Image

from bench.crowd import p99, posts_at_a_pace
from bench.harness import Bench, Process, Result, token
from bench.posts import make_conversations, sign_in, summary

_SIZE = 25_000_000
_TIMES = 5
_CHUNK = 256 * 1024


def measure(bench: Bench, rounds: int, seconds: int) -> list[Result]:
    up, hashed, down, grown, pictures, waits = [], [], [], [], [], []
    for _ in range(rounds):
        with tempfile.TemporaryDirectory(prefix="nestrel-bench-files-") as folder:
            with bench.service(NESTREL_FILES=folder) as service, bench.floors() as floors:
                ours, floor, more = asyncio.run(_transfers(service, floors))
                up.append((ours[0], floor[0]))
                hashed.append((ours[0], floor[1]))
                down.append((ours[1], floor[2]))
                grown.append(more)
                pictures.append(asyncio.run(_preview(service)))
            with bench.service(NESTREL_FILES=folder) as service:
                waits.append(asyncio.run(_beside_pictures(service, seconds)))
    more, slow = max(grown), sorted(pictures)[len(pictures) // 2]
    return [
        summary("upload of 25 MB, durable, against a route that drops it", up, " MB/s", "≥ 0.5", lambda r: r >= 0.5),
        summary("the same, against a route that takes its SHA-256 and drops it", hashed, " MB/s", "≥ 0.5",
                lambda r: r >= 0.5),
        summary("download of 25 MB, against a route that streams from memory", down, " MB/s", "≥ 0.5",
                lambda r: r >= 0.5),
        Result("memory that five uploads and downloads of 25 MB leave", more, None, " MB", "flat", more, more < 8),
        Result("first preview of a picture of 12 megapixels", slow, None, " s", "≤ 0.5 s", slow, slow <= 0.5),
        summary("p99 of a post while such pictures are opened, against without", waits, " ms", "≤ 1.3",
                lambda r: r <= 1.3),
    ]  # fmt: skip


def _http(port: int) -> httpx.AsyncClient:
    headers = {"Authorization": f"Bearer {token('mara')}"}
    return httpx.AsyncClient(base_url=f"http://127.0.0.1:{port}", headers=headers, timeout=120)


async def _transfers(
    service: Process, floors: Process
) -> tuple[tuple[float, float], tuple[float, float, float], float]:
    """MB/s up and down, of ours and of the floors, taken in turn; and by how many MB the service has grown."""
    [place] = await make_conversations(service, 1, ["mara"])
    where = f"/v1/conversations/{place}/attachments"
    times: dict[str, list[float]] = {name: [] for name in ("up", "bare up", "hashed up", "down", "bare down")}
    async with _http(service.port) as http, _http(floors.port) as bare:
        before = 0
        for n in range(_TIMES + 1):
            content = os.urandom(_SIZE)
            one = (await _timed(times["up"], _sent(http, where, content)))["attachment_id"]
            await _timed(times["bare up"], _sent(bare, "/file", content))
            await _timed(times["hashed up"], _sent(bare, "/file?hashed=1", content))
            await _timed(times["down"], _fetched(http, f"{where}/{one}"))
            await _timed(times["bare down"], _fetched(bare, f"/file?size={_SIZE}"))
            if n == 0:  # what is made once is not counted
                before = service.memory
                for each in times.values():
                    each.clear()
        grown = (service.memory - before) / 1e6
    rate = {name: _SIZE / 1e6 / sorted(each)[len(each) // 2] for name, each in times.items()}
    return (rate["up"], rate["down"]), (rate["bare up"], rate["hashed up"], rate["bare down"]), grown


async def _timed(into: list[float], work: object) -> dict[str, str]:
    begun = time.perf_counter()
    found: dict[str, str] = await work  # type: ignore[misc]  # a coroutine of one of the two below
    into.append(time.perf_counter() - begun)
    return found


async def _sent(http: httpx.AsyncClient, where: str, content: bytes) -> dict[str, str]:
    async def chunks() -> AsyncIterator[bytes]:
        for start in range(0, len(content), _CHUNK):
            yield content[start : start + _CHUNK]

    answer = await http.post(where, content=chunks(), headers={"Content-Length": str(len(content))})
    assert answer.is_success, answer.text
    found: dict[str, str] = answer.json()
    return found


async def _fetched(http: httpx.AsyncClient, where: str) -> dict[str, str]:
    size = 0
    async with http.stream("GET", where) as answer:
        async for chunk in answer.aiter_raw():
            size += len(chunk)
    assert size == _SIZE
    return {}


def _photo(number: int) -> bytes:
    """A picture of 12 megapixels as a camera makes it."""
    out = io.BytesIO()
    noise = Image.effect_noise((1000, 750), 60 + number).resize((4000, 3000))
    Image.merge("RGB", (noise, noise.rotate(180), noise.transpose(Image.Transpose.FLIP_LEFT_RIGHT))).save(
        out, "JPEG", quality=90
    )
    return out.getvalue()


async def _preview(service: Process) -> float:
    """Seconds until a first preview is there; the process that makes it runs already, as it does by then."""
    [place] = await make_conversations(service, 1, ["mara"])
    where = f"/v1/conversations/{place}/attachments"
    took = []
    async with _http(service.port) as http:
        for n in range(4):
            one = (await _sent(http, where, _photo(n)))["attachment_id"]
            begun = time.perf_counter()
            answer = await http.get(f"{where}/{one}/preview?width=960")
            took.append(time.perf_counter() - begun)
            assert answer.status_code == 200, answer.text
    return sorted(took[1:])[1]


async def _beside_pictures(service: Process, seconds: float) -> tuple[float, float]:
    """The 99th percentile in ms of posts at a fixed pace, while previews are made, one after another, and without."""
    [place] = await make_conversations(service, 1, ["mara"])
    wire = await sign_in(service, "mara")
    where = f"/v1/conversations/{place}/attachments"
    await posts_at_a_pace(wire, place, 1.0)
    alone, beside = list[float](), list[float]()
    async with _http(service.port) as http:
        photo = _photo(10)  # with some bytes behind it, it is another one to the service
        ids = [(await _sent(http, where, photo + n.to_bytes(4)))["attachment_id"] for n in range(int(seconds * 4))]
        unseen = iter([f"{where}/{one}/preview?width={width}" for one in ids for width in (320, 960)])
        for _ in range(3):
            alone += await posts_at_a_pace(wire, place, seconds / 3)
            opening = asyncio.ensure_future(_open(http, unseen, seconds / 3))
            beside += await posts_at_a_pace(wire, place, seconds / 3)
            await opening
    wire.close()
    return p99(beside), p99(alone)


async def _open(http: httpx.AsyncClient, previews: Iterator[str], seconds: float) -> None:
    """First previews, one after another, for about so long."""
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        answer = await http.get(next(previews))
        assert answer.status_code == 200, answer.text
