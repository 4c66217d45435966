"""Pictures are opened in a separate process, one at a time, with limits on time and memory."""

from __future__ import annotations

import asyncio
import contextlib
import json
import os
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from typing import NamedTuple

from nestrel.core import limits
from nestrel.files.asking import ANSWER, BROKEN, DONE, QUESTION, TOO_LARGE
from nestrel.files.queueing import FairQueue

_SECONDS = 60.0
"""What one picture may take where the processor has much else to do; then the process is killed, and the picture counts
as broken. Of the processor's own time it may take `limits.PICTURE_SECONDS`."""
_IDLE_SECONDS = 60.0
"""A process that has nothing to do for so long is ended: it holds as much memory as its largest picture took."""


class Picture(NamedTuple):
    """What a look at a picture has found: its kind, its size in pixels as it is shown, whether it has one frame."""

    media_type: str
    width: int
    height: int
    still: bool


class TooManyPixels(Exception):
    """It is larger than pictures are opened."""


async def _to_the_end(work: Callable[[int, int], tuple[int, bytes]], wanted: int, descriptor: int) -> tuple[int, bytes]:
    """Ask on a thread. Whoever has gone meanwhile still waits for the answer, which would be the next one's else."""
    asking = asyncio.ensure_future(asyncio.to_thread(work, wanted, descriptor))
    try:
        return await asyncio.shield(asking)
    except asyncio.CancelledError:
        await asyncio.wait({asking})
        raise


class _Process:
    """One process that opens pictures."""

    def __init__(self) -> None:
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_STREAM)
        with theirs:
            self._process = subprocess.Popen(
                [sys.executable, "-I", "-m", "nestrel.files.painter", str(theirs.fileno())],
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
                pass_fds=(theirs.fileno(),),
                env={"PATH": os.defpath, "LANG": "C.UTF-8"},
            )
        self._line = ours
        ours.settimeout(_SECONDS)

    def ask(self, wanted: int, descriptor: int) -> tuple[int, bytes]:
        """Raises OSError when it has died, or takes too long."""
        until = time.monotonic() + _SECONDS
        # Opened anew, for reading alone: what opens strangers' pictures cannot change what is kept of them.
        reading = os.open(f"/proc/self/fd/{descriptor}", os.O_RDONLY)
        try:
            socket.send_fds(self._line, [QUESTION.pack(wanted)], [reading])
        finally:
            os.close(reading)
        outcome, size = ANSWER.unpack(self._receive(ANSWER.size, until))
        return outcome, self._receive(size, until)

    def _receive(self, size: int, until: float) -> bytes:
        parts = []
        while size > 0:
            self._line.settimeout(max(until - time.monotonic(), 0.001))
            part = self._line.recv(min(size, 1 << 20))
            if not part:
                raise ConnectionError("the process that opens pictures has died")
            parts.append(part)
            size -= len(part)
        return b"".join(parts)

    def end(self) -> None:
        self._line.close()
        self._process.kill()
        self._process.wait()


def _always() -> bool:
    return True


class Pictures:
    """Looks at pictures and makes previews, for one person after the other. More than a few waiting are refused.
    `wanted` says whether somebody waits still: a picture that nobody does is not opened when its turn comes."""

    def __init__(self) -> None:
        self._queue = FairQueue(limits.PICTURES_EACH, limits.PICTURES_WAITING)
        self._process: _Process | None = None
        self._used = 0.0

    async def look(self, descriptor: int, of: str = "", wanted: Callable[[], bool] = _always) -> Picture | None:
        """What is in an open file; None if it is no picture, or a broken one.

        Raises:
            TooManyPixels: it has more than 50 million.
            SlowDown: too many wait already.
            Left: nobody wants it any more.
        """
        content = await self._ask(0, descriptor, of, wanted)
        return Picture(**json.loads(content)) if content is not None else None

    async def preview(
        self, descriptor: int, width: int, of: str = "", wanted: Callable[[], bool] = _always
    ) -> bytes | None:
        """A WebP of an open file's picture, at most so wide; None if there is none in it. Raises as `look` does."""
        return await self._ask(width, descriptor, of, wanted)

    async def _ask(self, width: int, descriptor: int, of: str, wanted: Callable[[], bool]) -> bytes | None:
        async with self._queue.turn(of, wanted):
            outcome, content = await _to_the_end(self._ask_process, width, descriptor)
        if outcome == TOO_LARGE:
            raise TooManyPixels
        return content if outcome == DONE else None

    def _ask_process(self, wanted: int, descriptor: int) -> tuple[int, bytes]:
        self._used = time.monotonic()
        if self._process is None:
            self._process = _Process()
        try:
            return self._process.ask(wanted, descriptor)
        except OSError:
            self._process.end()
            self._process = None
            return BROKEN, b""

    async def run(self) -> None:
        """End a process that has nothing to do, for ever."""
        while True:
            await asyncio.sleep(_IDLE_SECONDS / 4)
            if self._process is not None and time.monotonic() - self._used > _IDLE_SECONDS:
                async with self._queue.turn(""):
                    self.end()

    def end(self) -> None:
        """End the process, whatever it does."""
        if self._process is not None:
            with contextlib.suppress(OSError):
                self._process.end()
            self._process = None
