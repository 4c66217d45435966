"""Waiting for an event, but not for ever."""

from __future__ import annotations

import asyncio


async def happens(event: asyncio.Event, seconds: float) -> bool:
    """Wait until an event is set, at most so long; whether it was.

    Not by `asyncio.wait_for`, which before Python 3.12 loses a cancellation that comes just as the event is set: a
    task that is to end then goes on.
    """
    try:
        async with asyncio.timeout(seconds):
            return await event.wait()
    except TimeoutError:
        return False
