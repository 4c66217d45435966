"""Rates over processes, in the database and in Redis; and what a flood does to others."""

from __future__ import annotations

import asyncio
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import httpx
import pytest

from nestrel.core.rate import Policy, RateAnswer, RateRequest
from nestrel.live import redis_line
from nestrel.live.redis_rates import RedisRates
from nestrel.service.rates import Shared, address_of
from nestrel.store.database import Database
from nestrel.store.native import execute
from nestrel.store.write.rates import StoredRates
from tests.support import Person, Served, unique
from tests.test_buses import Server


@contextmanager
def bus_of(kind: str) -> Iterator[dict[str, str]]:
    if kind == "postgres":
        yield {}
        return
    with tempfile.TemporaryDirectory() as folder:
        server = Server(folder)
        try:
            yield {"NESTREL_BUS": server.url}
        finally:
            server.stop()


@pytest.mark.parametrize("kind", ["postgres", "redis"])
async def test_two_processes_let_through_no_more_than_a_fifth_above_the_limit(
    make_database: Callable[[], str], kind: str
) -> None:
    database = make_database()
    with bus_of(kind) as bus:
        limits: dict[str, Any] = {"NESTREL_RATE_LIMIT": "50", "NESTREL_RATE_LIMIT_READS": "20", **bus}
        with Served(database, **limits) as one, Served(database, **limits) as two:
            seats = [Person(served.wait_ready().url, "mara") for served in (one, two)]
            office = Person(one.url, "office", scope="nestrel.service")
            place = (await office.make(members=["mara"]))["id"]
            answers = await asyncio.gather(*(seats[n % 2].post(place, f"{n}") for n in range(150)))
            taken = [one.status_code for one in answers].count(201)
            assert 50 <= taken <= 60
            late = next(one for one in answers if one.status_code == 429)
            assert 1 <= int(late.headers["retry-after"]) <= 60
            assert late.headers["ratelimit-policy"] == '"commands";q=50;w=60, "reads";q=20;w=60'
            reads = [(await seats[n % 2].http.get("/me")).status_code for n in range(40)]
            assert 20 <= reads.count(200) <= 24
            assert (await Person(two.url, "odd").http.get("/me")).headers["ratelimit"].endswith('"reads";r=19;t=60')
            backend = await office.http.get("/me")
            assert (backend.status_code, "ratelimit" in backend.headers) == (200, False)


async def test_a_batch_counts_its_posts(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_RATE_LIMIT="10") as served:
        mara = Person(served.wait_ready().url, unique("mara"))
        place = (await mara.make())["id"]

        async def batch(n: int, prefix: str) -> int:
            messages = [{"key": f"{prefix}{i}", "body": "x"} for i in range(n)]
            path = f"/conversations/{place}/messages/batch"
            return (await mara.http.post(path, json={"messages": messages})).status_code

        assert [await batch(8, "a"), await batch(2, "b"), await batch(8, "a"), await batch(11, "c")] == [
            200,
            429,
            200,
            429,
        ]
        assert (await mara.post(place, "one more")).status_code == 201


async def test_an_address_that_is_not_signed_in_is_counted_and_no_one_who_is(make_database: Callable[[], str]) -> None:
    with Served(make_database(), NESTREL_RATE_LIMIT_ADDRESS="10") as served:
        mara = Person(served.wait_ready().url, unique("mara"))
        async with httpx.AsyncClient(base_url=served.url) as nobody:
            headers = {"Authorization": "Bearer forged"}
            asked = [(await nobody.get("/v1/me", headers=headers)).status_code for _ in range(8)]
            asked += [(await nobody.get("/v1/links/none")).status_code for _ in range(8)]
            assert (asked.count(401), asked.count(404), asked.count(429)) == (8, 2, 6)
            assert (await nobody.get("/healthz")).status_code == 200
        for _ in range(20):
            assert (await mara.http.get("/me")).status_code == 200


def test_a_household_is_one_address() -> None:
    def of(address: str) -> str:
        return address_of({"client": (address, 5)})

    assert of("2001:db8:1:2:3::4") == of("2001:db8:1:2:ffff::1") == "2001:db8:1:2::/64"
    assert of("2001:db8:1:3::4") != of("2001:db8:1:2::4")
    assert of("::ffff:192.0.2.7") == of("192.0.2.7")


@pytest.mark.parametrize("kind", ["postgres", "redis"])
async def test_both_keep_the_count_alike(database: Database, kind: str) -> None:
    policy = Policy("commands", 10, "commands")
    with bus_of(kind) as bus:
        shared: Shared = StoredRates(database) if kind == "postgres" else RedisRates(bus["NESTREL_BUS"], "nestrel")
        key = unique("mara")
        told = [
            (await shared.take([RateRequest(policy, key, *ask), RateRequest(policy, unique("odd"), 0, 1)]))[0]
            for ask in ((0, 4), (3, 0), (0, 3), (0, 1), (2, 1), (0, 0))
        ]
        assert [(one.granted, one.left) for one in told] == [
            (True, 6), (True, 3), (True, 0), (False, 0), (False, 0), (False, 0),
        ]  # fmt: skip
        assert all(1 <= one.seconds <= 60 for one in told)
        many = await asyncio.gather(*(shared.take([RateRequest(policy, "crowd", 0, 1)]) for _ in range(30)))
        assert [answer[0].granted for answer in many].count(True) == 10
        assert isinstance(many[0][0], RateAnswer)
        await shared.tidy()
        await shared.close()


@pytest.mark.parametrize("kind", ["postgres", "redis"])
async def test_a_minute_counts_until_its_last_second_is_over(database: Database, kind: str) -> None:
    """What came 60 slots of a second ago may be of less than a minute ago; what came 61 ago is not."""
    policy, key = Policy("commands", 5, "commands"), "mara"
    with bus_of(kind) as bus:
        shared: Shared = StoredRates(database) if kind == "postgres" else RedisRates(bus["NESTREL_BUS"], "nestrel")
        client = redis_line.connect(bus["NESTREL_BUS"]) if kind == "redis" else None
        name = f"nestrel:rate:commands:{key}"

        async def came(seconds: int) -> bool:
            """Whether there is room where five came so long ago."""
            if client is not None:
                now = int((await client.time())[0])
                await client.delete(name)
                await client.hset(name, str(now - seconds), "5")
            else:
                slots = "ARRAY(SELECT CASE WHEN n = at % 61 THEN 5 ELSE 0 END FROM generate_series(0, 60) n)"
                ago = (
                    f"INSERT INTO nestrel.rate_counts SELECT 'commands', $1, at, {slots} "
                    "FROM (SELECT floor(extract(epoch FROM clock_timestamp()))::bigint - $2::int AS at) moment "
                    "ON CONFLICT (policy, key) DO UPDATE SET at = excluded.at, slots = excluded.slots"
                )
                async with database.write() as connection:
                    await execute(connection, ago, key, seconds)
            return (await shared.take([RateRequest(policy, key, 0, 1)]))[0].granted

        assert not await came(0)
        assert not await came(58)  # a second may pass meanwhile
        # The clock may tick between: of several tries one finds both in the same second.
        assert False in [await came(60) for _ in range(5)]
        assert await came(61)
        await shared.close()
        if client is not None:
            await client.aclose()
