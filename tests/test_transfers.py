"""Files on their way, and pictures that wait to be opened: a share for each, and nobody who waits for nothing."""

from __future__ import annotations

import asyncio
import ctypes
import io
import os
import subprocess
import sys
from collections.abc import Callable
from contextlib import AsyncExitStack, ExitStack
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from nestrel.core import limits
from nestrel.core.problems import Problem, SlowDown
from nestrel.files import painter
from nestrel.files.pictures import Pictures
from nestrel.files.queueing import FairQueue, Left
from nestrel.service.transfers import Transfers
from tests.hostile import Raw
from tests.support import Person, Served, call, once, unique


def test_the_slowest_makes_room_and_whoever_moves_stays() -> None:
    now, cut = 100.0, list[tuple[str, int]]()
    transfers = Transfers(3, lambda: now)

    def cutting(name: str) -> Callable[[Problem], object]:
        return lambda problem: cut.append((name, problem.status))

    with ExitStack() as stack:
        slow, slower, fast = [
            stack.enter_context(transfers.turn(name, 2, cutting(name))) for name in ("slow", "slower", "fast")
        ]
        with pytest.raises(SlowDown), transfers.turn("next", 2, cutting("next")):
            pass  # nobody is old enough to be slow
        now += 10
        for transfer, size in ((slow, 500_000), (slower, 1_000), (fast, 50_000_000)):
            transfer.moved(size)
        for n in range(2):
            stack.enter_context(transfers.turn(f"next {n}", 2, cutting("next")))
        assert cut == [("slower", 429), ("slow", 429)]
        with pytest.raises(SlowDown), transfers.turn("one too many", 2, cutting("next")):
            pass
        now += 10
    with ExitStack() as stack:
        for _ in range(2):
            stack.enter_context(transfers.turn("same", 2, cutting("same")))
        with pytest.raises(SlowDown, match="at most 2"):
            stack.enter_context(transfers.turn("same", 2, cutting("same")))
        stack.enter_context(transfers.turn("same", None, cutting("a backend")))


async def test_slow_readers_and_senders_shut_nobody_out(own: Served) -> None:
    """One with many connections has a share; many with a share each make room once they are slow."""
    mara = Person(own.url, "mara")
    crew = [Person(own.url, unique("crew")) for _ in range(limits.TRANSFERS // limits.DOWNLOADS_EACH)]
    place = (await mara.make(members=[one.user for one in crew]))["id"]
    sent = (await mara.upload(place, os.urandom(20_000_000))).json()["attachment_id"]
    path = f"/conversations/{place}/attachments/{sent}"
    link = (await call(mara, "POST", f"{path}/link", {}, 201)).json()["url"].removeprefix(own.url)
    async with AsyncExitStack() as stack:

        async def begin(target: str, token: str | None) -> int:
            raw = await Raw.open(own)
            stack.callback(raw.close)
            head = f"Authorization: Bearer {token}\r\n" if token else ""
            await raw.say(f"GET {target} HTTP/1.1\r\nHost: 127.0.0.1\r\n{head}\r\n")
            raw.writer.transport.pause_reading()  # type: ignore[attr-defined]  # a socket's transport reads
            raw.writer.transport.resume_reading()  # type: ignore[attr-defined]  # as above
            status = await raw.status()
            raw.writer.transport.pause_reading()  # type: ignore[attr-defined]  # as above
            return status

        assert [await begin(link, None) for _ in range(limits.DOWNLOADS_EACH + 1)].count(429) == 1
        assert (await mara.http.get(path)).status_code == 200
        for one in crew:
            for _ in range(limits.DOWNLOADS_EACH):
                await begin(f"/v1{path}", one.token)

        async def read() -> int:
            return (await mara.http.get(path)).status_code

        assert await once(read, lambda status: status == 200) == 200
        # Whoever trickles an upload makes room as well.
        trickling = []
        for one in crew:
            for _ in range(limits.UPLOADS_EACH):
                raw = await Raw.open(own)
                stack.callback(raw.close)
                head = f"POST /v1/conversations/{place}/attachments HTTP/1.1\r\nHost: 127.0.0.1\r\n"
                await raw.say(head + f"Authorization: Bearer {one.token}\r\nContent-Length: 1000\r\n\r\n", b"x")
                trickling.append(raw)
        assert await once(read, lambda status: status == 200) == 200


def many_scans(count: int) -> bytes:
    """A progressive JPEG of which the last scan stands there so often."""
    out = io.BytesIO()
    Image.effect_noise((64, 64), 50).save(out, "JPEG", progressive=True)
    content = out.getvalue()
    last = content.rindex(b"\xff\xda")
    return content[:last] + content[last:-2] * count + content[-2:]


async def test_a_picture_of_thousands_of_scans_is_a_file(own: Served, tmp_path: Path) -> None:
    mara = Person(own.url, "mara")
    place = (await mara.make())["id"]
    for count, width in ((1, 64), (9_000, None)):
        kept = (await mara.upload(place, many_scans(count), "berth.jpg")).json()
        assert (count, kept["width"]) == (count, width)
    plain = io.BytesIO(many_scans(limits.PICTURE_SCANS + 1))
    with pytest.raises(ValueError, match="scans"):
        painter.look(plain)


async def test_a_picture_that_nobody_waits_for_is_not_opened(tmp_path: Path) -> None:
    pictures = Pictures()
    (tmp_path / "berth.jpg").write_bytes(many_scans(1))
    with (tmp_path / "berth.jpg").open("rb") as file:
        with pytest.raises(Left):
            await pictures.look(file.fileno(), "mara", lambda: False)
        assert pictures._process is None
        assert await pictures.look(file.fileno(), "mara", lambda: True) is not None
    pictures.end()


@given(st.lists(st.tuples(st.sampled_from("abc"), st.booleans()), max_size=40))
async def test_everybody_who_waits_has_a_turn_before_anybody_has_another(asked: list[tuple[str, bool]]) -> None:
    """Whoever asks how often, and gives up meanwhile: turns go round, none is lost, and never two at a time."""
    queue, order, busy = FairQueue(each=5, most=12), list[str](), 0
    gate = asyncio.Event()

    async def one(of: str) -> None:
        nonlocal busy
        async with queue.turn(of):
            busy += 1
            assert busy == 1
            await gate.wait()
            order.append(of)
            busy -= 1

    first = asyncio.create_task(one("first"))
    await asyncio.sleep(0)
    tasks = list[tuple[str, asyncio.Task[None]]]()
    for of, stays in asked:
        task = asyncio.create_task(one(of))
        await asyncio.sleep(0)
        if task.done():
            assert isinstance(task.exception(), SlowDown)
            assert queue.waiting == 12 or sum(who == of for who, _ in tasks) == 5
        elif stays:
            tasks.append((of, task))
        else:
            task.cancel()
            await asyncio.wait({task})
    gate.set()
    await asyncio.gather(first, *(task for _, task in tasks))
    left = [of for of, _ in tasks]
    expected = []
    people = list(dict.fromkeys(left))
    while left:
        for of in [who for who in people if who in left]:
            left.remove(of)
            expected.append(of)
    assert order == ["first", *expected]
    async with asyncio.timeout(60), queue.turn("last"):
        pass


def test_what_opens_pictures_opens_no_file_of_the_service(tmp_path: Path) -> None:
    """Whatever a picture makes of it: secrets, other pictures and the database's files are out of its reach, where the
    kernel can hold it to that. What it is given, it reads."""
    (tmp_path / "secret").write_text("x")
    code = (
        "import sys\nfrom nestrel.files import painter\ngiven = open(sys.argv[1], 'rb')\npainter._confine()\n"
        "assert given.read() == b'x'\n"
        "import wave\n"  # what is imported late
        "for path in (sys.argv[1], '/etc/passwd', '/proc/self/environ'):\n"
        "    try:\n        open(path)\n    except PermissionError:\n        print('refused')\n"
    )
    done = subprocess.run([sys.executable, "-c", code, tmp_path / "secret"], capture_output=True, text=True)
    assert (done.returncode, done.stderr) == (0, "")
    held = ctypes.CDLL(None).syscall(444, None, 0, 1) > 0  # landlock_create_ruleset, asked for its version
    assert done.stdout.split() == ["refused"] * (3 if held else 0)
