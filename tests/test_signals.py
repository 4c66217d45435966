"""Signals: who is writing reaches those who follow, on every process and over every bus, and is kept nowhere."""

from __future__ import annotations

import json
import tempfile
import time
from collections.abc import AsyncIterator, Callable
from contextlib import AsyncExitStack
from typing import Any
from uuid import UUID

import asyncpg
import pytest
from sqlalchemy.engine import make_url

from nestrel.live import redis_line
from nestrel.live.hub import Hub
from nestrel.live.redis_bus import RedisBus
from nestrel.live.saying import Saying
from nestrel.live.signals import Signals
from nestrel.store.events import Signal, pack_said, unpack
from nestrel.store.words import Words
from tests.support import Person, Served, Wire, call, once, unique
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
    signals = Signals(hub, Saying(RedisBus(redis_line.connect("redis://127.0.0.1:1"), "one", "nestrel", lambda: None)))
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
    words = Words(b"a key of the test's own")
    sealed = list(pack_said(words, "one", signals))
    packed = [words.open(payload) for payload in sealed]
    assert max(map(len, sealed)) < 8_000
    assert [one for payload in packed for one in unpack(payload, "other").said] == signals
    assert [unpack(payload, "one").said for payload in packed] == [()] * len(packed)
    with pytest.raises(ValueError, match="not an event"):
        unpack('{"node":"one"}', "other")


async def test_who_only_listens_on_the_channel_hears_nothing_and_says_nothing(make_database: Callable[[], str]) -> None:
    """Any role of the database may LISTEN and NOTIFY: no id and no name is in what it hears, and what it says itself,
    or says again later, is nobody's word."""
    url = make_database()
    address = make_url(url).render_as_string(hide_password=False)
    role = unique("ear").replace("-", "_")
    heard: list[str] = []
    async with AsyncExitStack() as stack:
        owner = await asyncpg.connect(address)
        stack.push_async_callback(owner.close)
        await owner.execute(f"CREATE ROLE {role} LOGIN PASSWORD 'x'")
        ear = await asyncpg.connect(make_url(address).set(username=role, password="x").render_as_string(False))
        stack.push_async_callback(ear.close)
        await ear.add_listener("nestrel", lambda _c, _pid, _channel, payload: heard.append(payload))
        one, two = (stack.enter_context(Served(url)) for _ in range(2))
        mara, odd = Person(one.wait_ready().url, unique("mara")), Person(two.wait_ready().url, unique("odd"))
        place = (await mara.make(members=[odd.user]))["id"]
        wire = await stack.enter_async_context(mara.socket())
        there = await stack.enter_async_context(odd.socket())
        for each in (wire, there):
            await each.command(type="follow", conversation_id=place)
        await wire.command(type="signal", conversation_id=place, name="writing")
        await wire.command(type="looking", conversation_id=place)
        assert (await there.get())["type"] == "signal"
        await mara.post(place, "tide")
        assert (await there.get())["type"] == "changes"

        async def words() -> list[str]:
            return heard

        await once(words, lambda all_: len(all_) >= 3)
        for name in (place, mara.user, odd.user, "writing"):
            assert not any(name in payload for payload in heard)
        forged = {"node": "x", "signals": [(place, mara.user, "writing")], "looking": [], "at": time.time()}
        old = Words(await owner.fetchval("SELECT value FROM nestrel.service_secrets WHERE name = 'cursor'"))
        late = old.seal(json.dumps({**forged, "at": time.time() - 600}, separators=(",", ":")).encode())
        for payload in (json.dumps(forged, separators=(",", ":")), late, "x", heard[0][::-1]):
            await ear.execute("SELECT pg_notify('nestrel', $1)", payload)
        await mara.post(place, "ebb")
        assert (await there.get())["type"] == "changes"  # and no signal before it
