"""What a standby is to confirm and has not is no acknowledged write, whoever has cut the wait."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable
from typing import Any, TypeVar

import asyncpg
import httpx
import pytest
from sqlalchemy.engine import make_url

from tests.support import Person, Served, call, once, own_cluster, unique

pytestmark = pytest.mark.whole

T = TypeVar("T")

_CUT = "SELECT pg_cancel_backend(pid) FROM pg_stat_activity WHERE wait_event = 'SyncRep'"


class Cluster:
    """One server, which may be told to wait for a standby that is not there."""

    def __init__(self, raw: asyncpg.Connection[Any], probe: asyncpg.Connection[Any]) -> None:
        self.raw, self.probe = raw, probe

    async def waits(self, *, on: bool) -> None:
        await self.raw.execute(f"ALTER SYSTEM SET synchronous_standby_names = '{'nobody' if on else ''}'")
        await self.raw.execute("SELECT pg_reload_conf()")

        async def shown() -> str:
            found: str = await self.raw.fetchval("SHOW synchronous_standby_names")
            return found

        await once(shown, lambda it: (it == "nobody") is on)
        if on:
            await once(self._probed, bool)

    async def _probed(self) -> bool:
        """Whether a commit waits by now: another process of the server has to hear of it too."""
        work = asyncio.ensure_future(self.probe.execute("SELECT pg_logical_emit_message(true, 'probe', '')"))
        waited = False
        while not work.done():
            waited |= bool(await self.raw.fetch(_CUT))
            await asyncio.wait([work], timeout=0.02)
        return waited

    async def cut(self, work: Awaitable[T]) -> T:
        """Cut each wait, until some work is over; what comes of it."""
        task = asyncio.ensure_future(work)
        while not task.done():
            await self.raw.execute(_CUT)
            await asyncio.wait([task], timeout=0.02)
        return task.result()


@pytest.fixture
async def cluster_and_served() -> AsyncIterator[tuple[Cluster, Served]]:
    async with own_cluster("standby") as postgres:
        url = postgres.url("standby")
        raw, probe = [await asyncpg.connect(make_url(url).render_as_string(hide_password=False)) for _ in range(2)]
        try:
            # Whoever cuts and whoever asks is not to wait oneself.
            await raw.execute("SET synchronous_commit = local")
            with Served(url) as served:
                yield Cluster(raw, probe), served.wait_ready()
        finally:
            await raw.close()
            await probe.close()


async def test_a_commit_whose_wait_was_cut_is_refused_and_stands_once(
    cluster_and_served: tuple[Cluster, Served],
) -> None:
    cluster, served = cluster_and_served
    mara, odd = Person(served.url, unique("mara")), Person(served.url, unique("odd"))
    place = (await mara.make(members=[odd.user]))["id"]
    await call(odd, "GET", "/me", status=200)  # whoever is seen for the first time is written down
    for n in range(3):  # what comes next is remembered, and goes the short way
        await mara.post(place, f"before {n}")
    await cluster.waits(on=True)
    path = f"/conversations/{place}"
    requests: list[Callable[[], Awaitable[httpx.Response]]] = [
        lambda: mara.post(place, "kept?", key="one"),
        lambda: mara.post(place, "kept?", key="one"),  # what is there is no more certain when it is asked for again
        lambda: odd.post(place, "named", key="two", mentions=[mara.user]),
        lambda: mara.http.put(f"{path}/messages/1/reactions/like"),
        lambda: mara.http.patch(f"{path}/messages/2", json={"body": "edited"}),
        lambda: mara.http.patch(path, json={"title": "Berth 4"}),
        lambda: mara.http.patch(f"{path}/members/me", json={"notify": "all"}),
    ]
    for request in requests:
        answer = await cluster.cut(request())
        assert (answer.status_code, answer.headers["retry-after"]) == (503, "1"), answer.text
        assert "no standby has confirmed" in answer.json()["detail"]
    async with mara.socket() as wire:
        refused = await cluster.cut(wire.command(type="post", conversation_id=place, key="three", body="by socket"))
        assert refused["problem"]["status"] == 503
    await cluster.waits(on=False)
    kept = [("kept?", "one", mara), ("named", "two", odd), ("by socket", "three", mara)]
    for body, key, who in kept:
        extra = {"mentions": [mara.user]} if key == "two" else {}
        assert (await who.post(place, body, key=key, **extra)).status_code == 200, body
    assert (await mara.post(place, "after")).status_code == 201
    page = (await call(mara, "GET", f"{path}/messages?order=asc", status=200)).json()["items"]
    assert [one["body"] for one in page] == ["before 0", "edited", "before 2", "kept?", "named", "by socket", "after"]
    assert [one["seq"] for one in page] == list(range(1, 8))
    assert page[0]["reactions"][0]["count"] == 1


async def test_who_waits_for_a_standby_that_comes_is_answered(cluster_and_served: tuple[Cluster, Served]) -> None:
    cluster, served = cluster_and_served
    mara = Person(served.url, unique("mara"))
    place = (await mara.make())["id"]
    await cluster.waits(on=True)
    work = asyncio.ensure_future(mara.post(place, "in time"))

    async def waiting() -> int:
        found: int = await cluster.raw.fetchval("SELECT count(*) FROM pg_stat_activity WHERE wait_event = 'SyncRep'")
        return found

    await once(waiting, bool)
    assert not work.done()
    await cluster.waits(on=False)
    assert (await work).status_code == 201
