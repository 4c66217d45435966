"""Conversations that somebody holds: who waits for them, who does not, and how two processes take turns."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Sequence
from typing import Any
from uuid import UUID

import asyncpg
import pytest

from nestrel.core.commands import Post
from nestrel.core.locked import Locked
from nestrel.core.problems import StoreUnavailable, Trouble
from nestrel.store.database import Database
from nestrel.store.native import Connection, fetch
from nestrel.store.write import facts
from nestrel.store.write.writer import Writer
from tests.support import make_place


async def test_a_row_that_somebody_holds_delays_nobody_else(
    database: Database, stranger: asyncpg.Connection[Any]
) -> None:
    held, free = await make_place(database, mara="owner"), await make_place(database, mara="owner")
    writer = Writer(database)
    async with stranger.transaction():
        await stranger.execute("SELECT FROM nestrel.conversations WHERE id = $1 FOR UPDATE", held)
        waiting = [writer.submit([Post(held, "mara", f"held {n}", key=f"{n}")]) for n in range(40)]
        times = []
        for n in range(60):
            waiting.append(writer.submit([Post(held, "mara", f"held {40 + n}", key=f"{40 + n}")]))
            began = time.perf_counter()
            answer = await writer.submit([Post(free, "mara", f"free {n}")])
            times.append(time.perf_counter() - began)
            assert answer[0].object["seq"] == n + 1
        assert not any(one.done() for one in waiting)
    answers = await asyncio.gather(*waiting)
    assert [one[0].object["seq"] for one in answers] == list(range(1, 101))  # in the order in which they came
    assert sorted(times)[30] < 0.1
    assert writer.waiting == 0


async def test_a_machine_that_stands_still_behind_a_lock_refuses_nothing(
    database: Database, stranger: asyncpg.Connection[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    place = await make_place(database, mara="owner")
    tried = list[int]()
    lock_soon = facts.lock_soon

    async def soon(connection: Connection, ids: Sequence[UUID]) -> dict[int, Locked] | None:
        tried.append(len(tried))
        return await lock_soon(connection, ids)

    monkeypatch.setattr(facts, "lock_soon", soon)
    monkeypatch.setattr(facts, "_AS_EVER", "SELECT pg_sleep(1)")  # the time for the lock is over in it
    held = stranger.transaction()
    await held.start()
    await stranger.execute("SELECT FROM nestrel.conversations WHERE id = $1 FOR UPDATE", place)
    answer = Writer(database).submit([Post(place, "mara", "x")])
    while not tried:
        await asyncio.sleep(0)
    await held.rollback()
    assert (await answer)[0].object["seq"] == 1


async def test_two_processes_that_write_to_the_same_conversations_keep_the_order_of_each(
    url: str, database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("nestrel.store.write.writer._BRIEF_SECONDS", 3_600.0)  # nobody else is here
    other = Database(url)
    try:
        places = [await make_place(database, mara="owner", odd="writer") for _ in range(8)]
        writers = {"mara": Writer(database), "odd": Writer(other)}

        async def write(user: str, place: UUID) -> None:
            for wave in range(12):
                offered = [writers[user].submit([Post(place, user, f"{user} {5 * wave + n}")]) for n in range(5)]
                await asyncio.gather(*offered)

        await asyncio.gather(*(write(user, place) for user in writers for place in places))
        async with database.read() as connection:
            for place in places:
                found = await fetch(
                    connection,
                    "SELECT author_id, body FROM nestrel.messages WHERE conversation_id = $1 ORDER BY seq",
                    place,
                )
                assert len(found) == 120
                for user in writers:
                    assert [body for author, body in found if author == user] == [f"{user} {n}" for n in range(60)]
        assert [writer.waiting for writer in writers.values()] == [0, 0]
    finally:
        await other.close()


async def test_a_lock_that_is_not_given_back_is_a_refusal_with_a_reason(
    database: Database, stranger: asyncpg.Connection[Any]
) -> None:
    place = await make_place(database, mara="owner")
    writer = Writer(database)
    for lock in (f"SELECT FROM nestrel.conversations WHERE id = '{place}' FOR UPDATE", "LOCK TABLE nestrel.messages"):
        async with stranger.transaction():
            await stranger.execute(lock)
            with pytest.raises(StoreUnavailable) as refused:
                await writer.submit([Post(place, "mara", "x", key="k")])
        assert refused.value.reason is Trouble.LOCKED
    assert (await writer.submit([Post(place, "mara", "x", key="k")]))[0].object["seq"] == 1
