"""What a connection held is free when it ends: nothing of it waits for the garbage collector, which comes seldom."""

from __future__ import annotations

import asyncio
import gc
from collections import Counter
from collections.abc import AsyncIterator, Awaitable, Callable
from pathlib import Path

import pytest
from pydantic import SecretStr
from websockets.asyncio.client import connect
from websockets.exceptions import InvalidStatus
from websockets.typing import Origin

from nestrel.live.following import Following
from nestrel.service.bounds import BoundedHttp, BoundedSocket
from nestrel.service.routes.streams import EventResponse, Stream
from nestrel.service.server import listen, server_of
from nestrel.service.settings import Settings
from nestrel.service.socket import Session
from tests.support import SECRET, Person, once

KINDS = (BoundedHttp, BoundedSocket, Session, Stream, EventResponse, Following)


async def left() -> Counter[str]:
    return Counter(type(one).__name__ for one in gc.get_objects() if issubclass(type(one), KINDS))


@pytest.fixture
async def here(make_database: Callable[[], str], tmp_path: Path) -> AsyncIterator[Person]:
    """Somebody at a service within this process."""
    settings = Settings(
        database_url=make_database(), jwt_secret=SecretStr(SECRET), files=str(tmp_path), port=0, search=False
    )
    bound = listen(settings)
    server = server_of(settings)
    serving = asyncio.create_task(server.serve([bound]))
    mara = Person(f"http://127.0.0.1:{bound.getsockname()[1]}", "mara")

    async def started() -> bool:
        return server.started

    try:
        await once(started, bool)
        yield mara
    finally:
        await mara.http.aclose()
        server.should_exit = True
        await serving


async def silent(who: Person) -> None:
    socket = await connect("ws" + who.url[4:] + "/v1/live")
    await socket.close()


async def followed(who: Person) -> None:
    async with who.socket() as wire:
        await wire.command(type="follow_all")


async def cut(who: Person) -> None:
    async with who.socket() as wire:
        await wire.command(type="follow_all")
        wire.raw.transport.abort()


async def refused(who: Person) -> None:
    with pytest.raises(InvalidStatus):
        await connect("ws" + who.url[4:] + "/v1/live", origin=Origin("http://elsewhere.example"))


async def stream(who: Person) -> None:
    async with Person(who.url, "mara").http as http, http.stream("GET", "/stream") as answer:
        async for _ in answer.aiter_raw():
            break


async def asked(who: Person) -> None:
    async with Person(who.url, "mara").http as http:
        for path in ("/me", "/conversations/none", "/nothing"):
            await http.get(path)


@pytest.mark.parametrize("connection", [silent, followed, cut, refused, stream, asked])
async def test_an_ended_connection_leaves_nothing_to_collect(
    here: Person, connection: Callable[[Person], Awaitable[None]]
) -> None:
    await connection(here)  # what is made once
    gc.collect()
    gc.disable()
    try:
        before = await once(left, lambda found: not found["Session"] and not found["Stream"])
        for _ in range(5):
            await connection(here)
        await once(left, lambda found: found <= before)
    finally:
        gc.enable()
