"""Posting in the application's own transaction: with it and not without it, once, in order, and held to what the other
doors hold to."""

from __future__ import annotations

import asyncio
import itertools
import random
from collections.abc import Callable, Iterator
from typing import Any

import asyncpg
import psycopg
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import create_engine, text
from sqlalchemy.ext.asyncio import AsyncSession, create_async_engine
from sqlalchemy.orm import Session

from nestrel.client.transaction import post
from nestrel.core.commands import Post
from nestrel.core.problems import Problem
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.text import name_key
from nestrel.service import waiting_posts
from nestrel.service.waiting_posts import WaitingPosts
from nestrel.store import addresses
from nestrel.store.database import Database
from nestrel.store.write.waiting_posts import Waiting
from tests.left import application, plain, posted
from tests.support import Person, Served, make_place, once, own_cluster, unique

__all__ = ["application"]  # the fixture


async def test_a_message_is_there_if_the_transaction_commits_and_not_if_it_does_not(
    application: tuple[Served, str, asyncpg.Connection[Any]],
) -> None:
    served, url, connection = application
    mara = Person(served.url, "mara")
    place = (await mara.make(name=unique("berths")))["id"]
    await connection.execute("CREATE TABLE bookings (berth text PRIMARY KEY)")
    synchronous = create_engine(plain(url, "postgresql+psycopg"))
    asynchronous = create_async_engine(addresses.sqlalchemy(url))

    def book(number: int, *, fail: bool) -> None:
        with Session(synchronous) as session:
            session.execute(text("INSERT INTO bookings VALUES (:b)"), {"b": f"s{number}"})
            post(session, place, "mara", f"s{number}", f"Berth s{number} is taken")
            if fail:
                session.rollback()
            else:
                session.commit()

    async with mara.socket() as wire:
        await wire.command(type="follow", conversation_id=place)
        for fail in (True, False):
            await asyncio.to_thread(book, int(fail), fail=fail)
            transaction = connection.transaction()
            await transaction.start()
            await connection.execute("INSERT INTO bookings VALUES ($1)", f"a{fail:d}")
            ticket = await post(
                connection, place, "odd", f"a{fail:d}", f"Berth a{fail:d} is *taken*", format="markdown",
                attributes={"berth": "ä", "at": [1.5, None]}, mentions=["mara"],
            )  # fmt: skip
            assert isinstance(ticket, int)
            await (transaction.rollback() if fail else transaction.commit())
            async with AsyncSession(asynchronous) as session:
                await session.execute(text("INSERT INTO bookings VALUES (:b)"), {"b": f"n{fail:d}"})
                await post(session, place, "mara", f"n{fail:d}", "third")
                await (session.rollback() if fail else session.commit())
        live = await wire.messages(3)
    assert [m["body"] for m in live] == ["Berth s0 is taken", "Berth a0 is *taken*", "third"]
    [_, second, _] = await posted(mara, place, 3)
    assert {k: second[k] for k in ("author_id", "format", "attributes", "mentions")} == {
        "author_id": "odd", "format": "markdown", "attributes": {"berth": "ä", "at": [1.5, None]},
        "mentions": ["mara"],
    }  # fmt: skip
    assert {row["berth"] for row in await connection.fetch("SELECT * FROM bookings")} == {"s0", "a0", "n0"}
    office = Person(served.url, "office", scope="nestrel.service")
    again = await office.http.post(
        f"/conversations/{place}/messages",
        json={"body": "Berth s0 is taken", "on_behalf_of": "mara"},
        headers={"Idempotency-Key": "s0"},
    )
    assert (again.status_code, again.json()["seq"]) == (200, live[0]["seq"])
    told = (await office.http.get("/audit", params={"conversation_id": place})).json()["items"]
    assert {(one["act"], one["user_id"]) for one in told if one["seq"]} == {
        ("posted-for", "mara"),
        ("posted-for", "odd"),
    }
    synchronous.dispose()
    await asynchronous.dispose()


async def test_a_late_transaction_is_neither_lost_nor_waited_for(
    application: tuple[Served, str, asyncpg.Connection[Any]],
) -> None:
    served, url, connection = application
    mara = Person(served.url, "mara")
    place = (await mara.make())["id"]
    late = await asyncpg.connect(plain(url))
    begun = late.transaction()
    await begun.start()
    first = await post(late, place, "mara", "late", "late")
    async with connection.transaction():
        tickets = [await post(connection, place, "mara", f"{n}", f"{n}") for n in range(3)]
    assert first < min(tickets)
    assert [m["body"] for m in await posted(mara, place, 3)] == ["0", "1", "2"]
    await begun.commit()
    assert [m["body"] for m in await posted(mara, place, 4)] == ["0", "1", "2", "late"]
    begun = late.transaction()
    await begun.start()
    await post(late, place, "mara", "killed", "killed")
    late.terminate()  # as by a process that is killed
    await post(connection, place, "mara", "last", "last")
    assert [m["body"] for m in await posted(mara, place, 5)][-1] == "last"
    assert await connection.fetchval("SELECT count(*) FROM nestrel.posts_waiting") == 0


async def test_what_was_left_while_nobody_served_is_posted_and_a_prepared_transaction_holds_up_nobody() -> None:
    async with own_cluster("prepared", max_prepared_transactions="4") as postgres:
        url = postgres.url("prepared")
        with Served(url) as served:
            mara = Person(served.wait_ready().url, "mara")
            place = (await mara.make())["id"]
            served.stop()
            connection = await asyncpg.connect(plain(url))
            for name in ("given", "up"):
                await connection.execute("BEGIN")
                await post(connection, place, "mara", name, name)
                await connection.execute(f"PREPARE TRANSACTION '{name}'")
            for n in range(3):
                await post(connection, place, "mara", f"{n}", f"{n}")
            served.restart().wait_ready()
            assert [m["body"] for m in await posted(mara, place, 3)] == ["0", "1", "2"]
            await connection.execute("ROLLBACK PREPARED 'up'")
            await connection.execute("COMMIT PREPARED 'given'")
            assert [m["body"] for m in await posted(mara, place, 4)] == ["0", "1", "2", "given"]
            assert await connection.fetchval("SELECT count(*) FROM nestrel.posts_waiting") == 0
            await connection.close()


async def test_a_held_conversation_holds_up_no_other_and_keeps_its_order(
    application: tuple[Served, str, asyncpg.Connection[Any]],
) -> None:
    served, url, connection = application
    mara = Person(served.url, "mara")
    held, free = (await mara.make())["id"], (await mara.make())["id"]
    stranger = await asyncpg.connect(plain(url))
    async with stranger.transaction():
        await stranger.execute("SELECT FROM nestrel.conversations WHERE id = $1 FOR UPDATE", held)
        async with connection.transaction():
            for n in range(600):  # more than one transaction takes
                await post(connection, held, "mara", f"{n}", f"{n}")
            await post(connection, free, "mara", "free", "free")
            await post(connection, held, "petra", "petra", "petra")
        await posted(mara, free, 1)
        office = Person(served.url, "office", scope="nestrel.service")
        await Person(served.url, "petra").http.get("/me")
        begun = await office.http.post("/erasures", json={"user_id": "petra", "confirm": True})
        assert begun.status_code == 201, begun.text

        async def of_petra() -> int:
            return int(
                await connection.fetchval("SELECT count(*) FROM nestrel.posts_waiting WHERE author_id = 'petra'")
            )

        assert await once(of_petra, lambda count: count == 0) == 0
    assert (await once(lambda: mara.page(held, limit=200), lambda page: page["head"] == 600))["head"] == 600
    assert [m["body"] for m in (await mara.page(held, limit=200))["items"]] == [f"{n}" for n in range(599, 399, -1)]
    await stranger.close()


async def test_what_fails_by_a_fault_of_ours_stays_and_holds_up_no_other(
    database: Database, stranger: asyncpg.Connection[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    one, other = [await make_place(database, mara="owner") for _ in range(2)]
    for body in ("before", "fault", "behind"):
        await post(stranger, str(one), "mara", body, body)
    await post(stranger, str(other), "mara", "other", "other")
    command = waiting_posts.command

    def faulty(waiting: Waiting) -> Post | Problem:
        if waiting.body == "fault":
            raise RuntimeError("a fault of ours")
        return command(waiting)

    async def bodies() -> list[str]:
        return [row[0] for row in await stranger.fetch("SELECT body FROM nestrel.messages ORDER BY created_at, seq")]

    async def take() -> None:
        await WaitingPosts(
            database, lambda _: None, lambda _, __: None, lambda _: False, None, DEFAULT_QUOTAS, None
        ).take_all()

    monkeypatch.setattr(waiting_posts, "command", faulty)
    await take()
    assert sorted(await bodies()) == ["before", "other"]
    assert await stranger.fetchval("SELECT count(*) FROM nestrel.posts_waiting") == 2
    monkeypatch.setattr(waiting_posts, "command", command)
    await take()
    assert (await bodies())[-2:] == ["fault", "behind"]
    assert await stranger.fetchval("SELECT count(*) FROM nestrel.posts_waiting") == 0


async def test_a_pool_is_no_transaction(url: str) -> None:
    async with asyncpg.create_pool(plain(url), min_size=1, max_size=1) as pool:
        with pytest.raises(TypeError, match="this is Pool"):
            post(pool, "berths", "mara", "k", "b")


async def test_through_kills_and_beside_other_posts_each_is_posted_once_and_in_order() -> None:
    async with own_cluster("left") as postgres:
        url = postgres.url("left")
        with Served(url) as one, Served(url) as two:
            office = Person(one.wait_ready().url, "office", scope="nestrel.service")
            two.wait_ready()
            places = [(await office.make())["id"] for _ in range(4)]
            pool = await asyncpg.create_pool(plain(url), min_size=4, max_size=4)
            chance = random.Random(7)

            async def application(name: str, count: int) -> dict[str, list[str]]:
                """What was committed, by conversation and in its order."""
                kept: dict[str, list[str]] = {place: [] for place in places}
                numbers = itertools.count()
                async with pool.acquire() as connection:
                    for _ in range(count):
                        transaction = connection.transaction()
                        await transaction.start()
                        mine = [(chance.choice(places), f"{name}-{next(numbers)}") for _ in range(chance.randint(1, 4))]
                        for place, key in mine:
                            await post(connection, place, "mara", key, key)
                        if chance.random() < 0.2:
                            await transaction.rollback()
                            continue
                        await transaction.commit()
                        for place, key in mine:
                            kept[place].append(key)
                return kept

            async def others() -> None:
                for n in range(200):
                    answer = await office.http.post(f"/conversations/{places[n % 4]}/messages", json={"body": "beside"})
                    assert answer.status_code == 201

            async def kills() -> None:
                for _ in range(3):
                    await asyncio.to_thread(two.kill)
                    await asyncio.to_thread(two.restart().wait_ready)

            beside = asyncio.gather(others(), kills())
            kept = await asyncio.gather(*(application(f"a{n}", 100) for n in range(4)))
            await beside

            async def left() -> int:
                return int(await pool.fetchval("SELECT count(*) FROM nestrel.posts_waiting"))

            await once(left, lambda count: count == 0)
            for place in places:
                wanted = [one[place] for one in kept]
                rows = await pool.fetch(
                    "SELECT body FROM nestrel.messages WHERE conversation_id = $1 AND author_id = 'mara' ORDER BY seq",
                    place,
                )
                found = [row[0] for row in rows]
                assert sorted(found) == sorted(key for keys in wanted for key in keys)
                for n, keys in enumerate(wanted):
                    assert [key for key in found if key.startswith(f"a{n}-")] == keys
            assert await pool.fetchval("SELECT count(*) FROM nestrel.refused_posts") == 0
            await pool.close()


@pytest.fixture(scope="module")
def folding(make_database: Callable[[], str]) -> Iterator[psycopg.Connection[Any]]:
    with psycopg.connect(plain(make_database())) as connection:
        yield connection


_NAMES = st.text(st.characters(exclude_categories=["Cs", "Cn", "Co"], exclude_characters="\x00"), max_size=20)


@given(names=st.lists(_NAMES, min_size=50, max_size=50))
@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_the_database_folds_names_as_the_service_does(folding: psycopg.Connection[Any], names: list[str]) -> None:
    asked = "SELECT nestrel.name_key_v1(n) FROM unnest(%s::text[]) WITH ORDINALITY AS u (n, i) ORDER BY i"
    assert [row[0] for row in folding.execute(asked, [names])] == [name_key(name) for name in names]
