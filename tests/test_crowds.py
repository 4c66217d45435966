"""Receipts of a crowd: gathered for a moment, in few change sets, and posts do not wait for all of them."""

from __future__ import annotations

import asyncio
import random
from collections.abc import Sequence

import pytest

from nestrel.core.commands import Post, Read
from nestrel.core.problems import NotFound, Problem, SlowDown
from nestrel.store.database import Database
from nestrel.store.native import fetch
from nestrel.store.write import crowds
from nestrel.store.write.answers import Growth, Written
from nestrel.store.write.writer import Writer
from tests.support import make_place

MANY = 100


async def test_a_crowds_receipts_are_few_change_sets_and_everyone_has_an_answer(database: Database) -> None:
    members = {f"deck-{n}": "writer" for n in range(MANY)}
    place = await make_place(database, mara="owner", **members)
    growths: list[Growth] = []
    batches: list[int] = []
    writer = Writer(database, growths.extend, batches.append)
    await writer.submit([Post(place, "mara", f"{n}") for n in range(50)])
    dice, asked = random.Random(7), list[tuple[str, int, asyncio.Future[list[Written]]]]()
    growths.clear()
    batches.clear()
    for _ in range(4 * MANY):
        user, seq = f"deck-{dice.randrange(MANY)}", dice.randint(1, 60)
        asked.append((user, seq, writer.submit([Read(place, user, seq)])))
    stranger = writer.submit([Read(place, "nobody", 3)])
    post = writer.submit([Post(place, "mara", "beside them")])
    assert (await post)[0].object["seq"] == 51
    assert not asked[-1][2].done(), "a post waits for no crowd"
    newest, refused = dict.fromkeys(members, 0), list[int]()
    for user, seq, answer in asked:
        try:
            assert (await answer)[0].object["read_seq"] >= seq
            newest[user] = max(newest[user], seq)
        except Problem:
            refused.append(seq)
    assert all(seq > 51 for seq in refused)
    with pytest.raises(NotFound):
        await stranger
    async with database.read() as connection:
        stored = await fetch(
            connection, "SELECT user_id, read_seq FROM nestrel.members WHERE conversation_id = $1", place
        )
    assert {user: seq for user, seq in stored if user in members} == newest
    told = [one for growth in growths for one in growth.members]
    assert len(growths) <= 2 + len(asked) // 32
    assert all(one["read_seq"] <= newest[one["user_id"]] for one in told)
    assert max(batches) <= 33


async def test_few_receipts_are_written_at_once_and_a_drain_waits_for_no_crowd(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(crowds, "GATHERED_SECONDS", 3_600.0)
    place = await make_place(database, mara="owner", odd="writer")
    writer = Writer(database)
    await writer.submit([Post(place, "mara", f"{n}") for n in range(60)])
    for seq in range(1, 9):
        assert (await writer.submit([Read(place, "odd", seq)]))[0].object["read_seq"] == seq
    held = [writer.submit([Read(place, "odd", seq)]) for seq in (30, 20, 40)]
    await writer.submit([Post(place, "mara", "beside")])
    assert not any(answer.done() for answer in held)
    assert writer.waiting == 3
    await writer.drain()
    assert [(await answer)[0].object["read_seq"] for answer in held] == [40, 40, 40]
    assert writer.waiting == 0


async def test_whoever_goes_on_to_something_else_has_their_receipts_written_first(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(crowds, "GATHERED_SECONDS", 3_600.0)
    monkeypatch.setattr(crowds, "_CROWD", 0)
    place = await make_place(database, mara="owner", odd="writer")
    growths: list[Growth] = []
    writer = Writer(database, growths.extend)
    await writer.submit([Post(place, "mara", f"{n}") for n in range(60)])
    growths.clear()
    others = writer.submit([Read(place, "mara", 5)])
    mine = [writer.submit([Read(place, "odd", seq)]) for seq in (30, 61)]
    await writer.submit([Post(place, "odd", "and I say")])
    assert mine[0].done()
    assert not others.done()
    with pytest.raises(Problem):  # it was not there when it was read
        await mine[1]
    [growth] = growths
    assert [one["read_seq"] for one in growth.members] == [30]
    await writer.drain()
    assert (await others)[0].object["read_seq"] == 5


async def test_a_crowd_ends_with_the_posts(database: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(crowds, "GATHERED_SECONDS", 3_600.0)
    monkeypatch.setattr(crowds, "_CROWD", 0)
    place = await make_place(database, mara="owner", odd="writer")
    batches: list[int] = []
    writer = Writer(database, on_batch=batches.append)
    await writer.submit([Post(place, "mara", f"{n}") for n in range(60)])
    held = [writer.submit([Read(place, "odd", seq)]) for seq in range(1, 50)]
    monkeypatch.setattr(crowds, "_BESIDE_SECONDS", 0.0)  # the last post was a while ago
    batches.clear()
    assert (await writer.submit([Read(place, "mara", 60)]))[0].object["read_seq"] == 60
    assert all(answer.done() for answer in held)
    assert len(batches) == 1
    assert (await writer.submit([Read(place, "odd", 60)]))[0].object["read_seq"] == 60


async def test_a_crowd_is_within_the_bound_of_what_may_wait(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("nestrel.core.limits.WRITES_WAITING", 20)
    place = await make_place(database, mara="owner")
    writer = Writer(database)
    await writer.submit([Post(place, "mara", "x")])
    asked: Sequence[asyncio.Future[list[Written]]] = [writer.submit([Read(place, "mara", 1)]) for _ in range(30)]
    answers = await asyncio.gather(*asked, return_exceptions=True)
    assert sum(isinstance(answer, SlowDown) for answer in answers) == 10
    assert sum(isinstance(answer, list) for answer in answers) == 20
