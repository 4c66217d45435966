"""What a process keeps for those who read, and gives up within its bounds."""

from __future__ import annotations

import asyncio
from contextlib import AsyncExitStack
from typing import Any
from uuid import UUID

import pytest

from nestrel.core.callers import Caller
from nestrel.core.commands import Post
from nestrel.core.paging import HistoryQuery
from nestrel.core.problems import SlowDown, StoreUnavailable
from nestrel.core.rights import Action
from nestrel.live.hub import Hub
from nestrel.live.source import StoreSource
from nestrel.service import exports as module
from nestrel.service.pages import Pages
from nestrel.store.access import Access, see
from nestrel.store.database import Database
from nestrel.store.read import history
from nestrel.store.replicas import Replicas
from nestrel.store.write.writer import Writer
from tests.support import make_place


async def test_a_page_that_is_read_again_is_counted_once_and_many_ask_for_it_once(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = await make_place(database, mara="owner")
    await Writer(database).submit([Post(place, "mara", "x" * 1_000)])
    async with database.read() as connection:
        access: Access = await see(connection, place, Caller("mara"), Action.SEE)
    pages, query, reads = Pages(1024 * 1024), HistoryQuery(50), 0
    read = history.read

    async def counted(*args: Any) -> Any:
        nonlocal reads
        reads += 1
        return await read(*args)

    monkeypatch.setattr(history, "read", counted)
    found = await asyncio.gather(*(pages.read(Replicas(database, ()), access, query) for _ in range(20)))
    assert reads == 1
    assert len({id(one) for one in found}) == 1
    for _ in range(5):
        await pages.read(Replicas(database, ()), access, query)
    assert pages.bytes == found[0].size


async def test_many_who_ask_for_a_page_have_the_failure_of_the_one_who_reads_it(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = await make_place(database, mara="owner")
    async with database.read() as connection:
        access = await see(connection, place, Caller("mara"), Action.SEE)

    async def fails(*_args: Any) -> Any:
        await asyncio.sleep(0)
        raise StoreUnavailable("away")

    monkeypatch.setattr(history, "read", fails)
    pages = Pages(1024 * 1024)
    found = await asyncio.gather(
        *(pages.read(Replicas(database, ()), access, HistoryQuery(50)) for _ in range(5)), return_exceptions=True
    )
    assert all(isinstance(one, StoreUnavailable) for one in found)
    first = asyncio.create_task(pages.read(Replicas(database, ()), access, HistoryQuery(50)))
    second = asyncio.create_task(pages.read(Replicas(database, ()), access, HistoryQuery(50)))
    await asyncio.sleep(0)
    monkeypatch.undo()
    first.cancel()  # whoever reads has gone: the other one reads
    assert (await second).lowest == 1


async def test_an_unread_export_gives_its_place_to_the_next(monkeypatch: pytest.MonkeyPatch) -> None:
    cut: list[object] = []
    exports = module.Exports(1, cut.append)
    leave = asyncio.Event()

    async def stalled() -> None:
        async with exports.turn("slow reader"):
            await leave.wait()

    reading = asyncio.create_task(stalled())
    await asyncio.sleep(0)
    with pytest.raises(SlowDown):
        exports.check()
    monkeypatch.setattr(module, "_UNREAD_SECONDS", -1.0)
    exports.check()

    async def next_one() -> None:
        async with exports.turn("quick reader"):
            pass

    following = asyncio.create_task(next_one())
    await asyncio.sleep(0)
    assert cut == ["slow reader"]
    leave.set()
    await asyncio.gather(reading, following)


async def test_rings_are_within_the_bound_of_the_process(database: Database, afterwards: AsyncExitStack) -> None:
    places = [await make_place(database, mara="owner") for _ in range(6)]
    hub = Hub(StoreSource(database, 1_000), most=40_000)
    afterwards.push_async_callback(hub.stop)
    writer = Writer(database, hub.grown, followed=hub.followed)

    class Quiet:
        def wake(self, _follower: object) -> None: ...
        def end(self, _follower: object, _reason: str) -> None: ...
        def joined(self, _id: UUID) -> None: ...
        def signalled(self, _follower: object, _signal: object) -> None: ...
        def renewed(self) -> None: ...

    await hub.follow(places, "mara", Quiet())
    for n in range(30):
        await writer.submit([Post(places[n % 6], "mara", "x" * 2_000)])
    assert hub.ring_bytes == sum(channel.ring_bytes for channel in hub.channels.values()) <= 40_000
    newest = hub.channels[places[29 % 6]]
    assert newest.ring
