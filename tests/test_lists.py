"""Lists that a process keeps in mind: they say what the store's own question says, whatever happens between."""

from __future__ import annotations

import asyncio
import random
from typing import Any

import pytest

from nestrel.core.callers import Caller
from nestrel.core.commands import Post
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.live.lists import Lists
from nestrel.live.moves import Moves
from nestrel.live.source import StoreSource
from nestrel.store import rows
from nestrel.store.database import Database
from nestrel.store.read import conversations
from nestrel.store.read.conversations import Listed, ListPosition
from nestrel.store.write import conversations as changing
from nestrel.store.write import members
from nestrel.store.write.writer import Writer
from tests.support import make_place

PEOPLE = ["mara", "odd"]


async def by_the_store(database: Database, user: str) -> list[str]:
    found: list[str] = []
    after = None
    async with database.read() as connection:
        while True:
            items, after = await conversations.page(connection, "mine", Caller(user), 3, after, None)
            found += [item["id"] for item in items]
            if after is None:
                return found


async def by_memory(lists: Lists, user: str) -> list[str]:
    found: list[str] = []
    after: ListPosition | None = None
    while True:
        page = await lists.page(user, 3, after)
        assert page is not None
        _, some, more = page
        found += [str(one.id) for one in some]
        if not more:
            return found
        after = some[-1]


@pytest.mark.parametrize("seed", range(6))
async def test_a_list_in_memory_is_the_stores_own(database: Database, seed: int) -> None:
    dice = random.Random(seed)
    moves = Moves(StoreSource(database, 1_000), most=4 if seed % 3 == 0 else 1_000)
    lists = Lists(database, moves, most=12 if seed % 2 else 1_000)  # of seven in each list: the other one has to go
    writer = Writer(database)
    places = [await make_place(database, back="owner", **dict.fromkeys(PEOPLE, "writer")) for _ in range(7)]
    back = Caller("back")
    for _ in range(25):
        for place in dice.sample(places, dice.randint(0, 3)):
            user = dice.choice(PEOPLE)
            what = dice.randrange(7)
            if what < 4:
                await writer.submit([Post(place, "back", "hello")])
            elif what == 4:
                await members.put(database, back, place, user, None, DEFAULT_QUOTAS)
            elif what == 5:
                standing = await by_the_store(database, user)
                if str(place) in standing:
                    await members.end(database, back, place, user)
            elif len(places) > 5:
                await changing.close(database, back, place)
                places.remove(place)
        if dice.random() < 0.2:
            places.append(await make_place(database, back="owner", **{dice.choice(PEOPLE): "writer"}))
        user = dice.choice(PEOPLE)
        expected = await by_the_store(database, user)
        # Several who ask at one moment, of whom some go away.
        asking = [asyncio.ensure_future(by_memory(lists, user)) for _ in range(4)]
        await asyncio.sleep(0)
        asking[0].cancel()
        assert await asyncio.gather(*asking[1:]) == [expected] * 3


async def test_whoever_asks_while_it_moves_never_gets_an_older_list_than_at_the_asking(database: Database) -> None:
    """Many read one member's list while others post; each answer has at least what was there when it was asked for."""
    moves = Moves(StoreSource(database, 1_000))
    lists = Lists(database, moves)
    writer = Writer(database)
    places = [await make_place(database, mara="owner") for _ in range(6)]
    posted = dict.fromkeys(places, 0)

    async def post(n: int) -> None:
        dice = random.Random(n)
        for _ in range(20):
            place = dice.choice(places)
            [written] = await writer.submit([Post(place, "mara", "x")])
            posted[place] = max(posted[place], written.object["seq"])

    async def read() -> None:
        for _ in range(25):
            before = dict(posted)
            page = await lists.page("mara", 10, None)
            assert page is not None
            _, found, _ = page
            at = {one.id: one.at for one in found}
            async with database.read() as connection:
                shown = await conversations.shown(connection, Caller("mara"), list(before), mine=True)
            assert len(found) == len(places)
            for item, (place, seq) in zip(shown, before.items(), strict=True):
                assert item["head"] >= seq
                if item["head"] == seq and seq:  # nothing has come since: the list must have had it
                    assert item["last_message"]["created_at"] == rows.wire_time(at[place])

    await asyncio.gather(*(post(n) for n in range(4)), *(read() for _ in range(6)))


async def test_an_answer_that_comes_late_takes_nothing_back(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What one request read waits; two others bring the list past it, and the second has asked before the first puts
    down what it read."""
    moves = Moves(StoreSource(database, 1_000))
    lists = Lists(database, moves)
    writer = Writer(database)
    first, second = [await make_place(database, mara="owner") for _ in range(2)]
    await by_memory(lists, "mara")
    since, mine_of = moves.since, conversations.mine_of
    read, put_down, asked, answered = (asyncio.Event() for _ in range(4))

    async def late(*args: Any) -> list[Listed]:
        found = await mine_of(*args)
        read.set()
        await put_down.wait()
        return found

    async def slow(*args: Any) -> Any:
        found = await since(*args)
        asked.set()
        await answered.wait()
        return found

    await writer.submit([Post(first, "mara", "one")])
    monkeypatch.setattr(conversations, "mine_of", late)
    one = asyncio.ensure_future(by_memory(lists, "mara"))
    await read.wait()
    monkeypatch.undo()
    await writer.submit([Post(second, "mara", "two")])
    await writer.submit([Post(first, "mara", "three")])
    assert await by_memory(lists, "mara") == [str(first), str(second)]
    monkeypatch.setattr(moves, "since", slow)
    two = asyncio.ensure_future(by_memory(lists, "mara"))
    await asked.wait()
    monkeypatch.undo()
    put_down.set()
    await one
    answered.set()
    await two
    expected = await by_the_store(database, "mara")
    assert await by_memory(lists, "mara") == expected == [str(first), str(second)]


async def test_a_list_that_is_too_long_is_left_to_the_store(database: Database) -> None:
    lists = Lists(database, Moves(StoreSource(database, 1_000)), most=3)
    for _ in range(4):
        await make_place(database, mara="owner")
    assert await lists.page("mara", 10, None) is None
    page = await lists.page("odd", 10, None)
    assert page is not None
    assert page[1] == []
