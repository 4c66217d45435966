"""Signals: who is writing reaches those who follow, on every process and over every bus, and is kept nowhere."""

from __future__ import annotations

import tempfile
from collections.abc import AsyncIterator, Callable
from typing import Any
from uuid import UUID

import pytest

from nestrel.live import redis_line
from nestrel.live.hub import Hub
from nestrel.live.redis_bus import RedisBus
from nestrel.live.saying import Saying
from nestrel.live.signals import Signals
from nestrel.store.events import Signal, pack_said, unpack_said
from tests.support import Person, Served, Wire, call, unique
from tests.test_buses import Server


async def signal_of(wire: Wire) -> dict[str, Any]:
    """The next signal; change sets go by."""
    while (frame := await wire.get())["type"] != "signal":
        pass
    return frame


@pytest.fixture(params=["postgres", "redis"])
async def two(request: pytest.FixtureRequest, make_database: Callable[[], str]) -> AsyncIterator[tuple[Served, Served]]:
    """Two processes on one database, that speak by one bus."""
    url = make_database()
    if request.param == "postgres":
        with Served(url) as one, Served(url) as other:
            yield one.wait_ready(), other.wait_ready()
        return
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        try:
            with Served(url, NESTREL_BUS=server.url) as one, Served(url, NESTREL_BUS=server.url) as other:
                yield one.wait_ready(), other.wait_ready()
        finally:
            server.stop()


async def test_who_is_writing_is_told_to_those_who_follow(two: tuple[Served, Served]) -> None:
    one, other = two
    mara, odd, tam, kaz = (Person(one.url, unique(name)) for name in ("mara", "odd", "tam", "kaz"))
    there = Person(other.url, odd.user)
    place = (await mara.make(members=[odd.user, tam.user]))["id"]
    async with mara.socket() as wire, odd.socket() as here, there.socket() as elsewhere, mara.socket() as own:
        for each in (wire, here, elsewhere, own):
            await each.command(type="follow", conversation_id=place)
        said = {"type": "signal", "conversation_id": place, "user_id": mara.user, "name": "writing"}
        assert (await wire.command(type="signal", conversation_id=place, name="writing"))["type"] == "done"
        assert await signal_of(here) == said
        assert await signal_of(elsewhere) == said
        await mara.post(place, "so it is")
        for each in (here, elsewhere):
            assert (await each.get())["type"] == "changes", "one signal and no more, and what is said behind it"
        assert (await own.get())["type"] == "changes"  # nobody is told of themself
        refused = await wire.command(type="signal", conversation_id=place, name="singing")
        assert refused["problem"]["status"] == 422
        await here.command(type="unfollow", conversation_id=place)
        async with tam.socket() as another:
            await another.command(type="signal", conversation_id=place, name="writing")
        assert await signal_of(elsewhere) == {**said, "user_id": tam.user}
        await here.quiet()
    async with kaz.socket() as stranger:
        answer = await stranger.command(type="signal", conversation_id=place, name="writing")
        assert answer["problem"]["status"] == 404


def test_more_than_one_a_second_is_dropped(monkeypatch: pytest.MonkeyPatch) -> None:
    now = 100.0
    monkeypatch.setattr("time.monotonic", lambda: now)
    hub = Hub(None)  # type: ignore[arg-type]  # nothing is read here
    signals = Signals(hub, Saying(RedisBus(redis_line.connect("redis://127.0.0.1:1"), "one", "nestrel")))
    mara, odd = (Signal(UUID(int=1), user, "writing") for user in ("mara", "odd"))
    assert [signals.due(one) for one in (mara, odd, mara)] == [True, True, False]
    now += 0.9
    assert not signals.due(mara)
    now += 0.2
    assert signals.due(mara)


async def test_whoever_may_not_post_signals_to_nobody(own: Served) -> None:
    mara, odd = Person(own.url, unique("mara")), Person(own.url, unique("odd"))
    board = (await mara.make(kind="bulletin", members=[odd.user]))["id"]
    pair = (await mara.make(kind="direct", members=[odd.user]))["id"]
    await call(mara, "PUT", f"/me/blocked/{odd.user}", status=201)
    async with odd.socket() as wire, mara.socket() as other:
        for place in (board, pair):
            await other.command(type="follow", conversation_id=place)
            answer = await wire.command(type="signal", conversation_id=place, name="writing")
            assert answer["problem"]["status"] == 403
        await other.quiet()


def test_signals_go_into_payloads_that_the_bus_takes() -> None:
    place = "01a20000-0000-7000-8000-000000000001"
    signals = [Signal(UUID(place), f"somebody {n} " + "é" * 100, "writing") for n in range(200)]
    packed = list(pack_said("one", signals))
    assert max(len(one.encode()) for one in packed) < 8_000
    assert [one for payload in packed for one in unpack_said(payload, "other") or []] == signals
    assert [unpack_said(payload, "one") for payload in packed] == [[]] * len(packed)
    assert unpack_said('{"node":"one","moved":[]}', "other") is None
