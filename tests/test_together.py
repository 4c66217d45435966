"""The one reader of changes: whatever has happened in many conversations, and however little goes into one reading,
they come whole; and many take as many statements as one."""

from __future__ import annotations

import asyncio
import random
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import AsyncExitStack
from typing import Any
from uuid import UUID, uuid4

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nestrel.core.callers import Caller
from nestrel.core.catching_up import ALONE, Counters, looks, most_rows, only_posts, taken
from nestrel.core.commands import Post
from nestrel.core.cursors import ChangePosition
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.replica import Replica
from nestrel.core.roles import Role
from nestrel.live.channel import Follower
from nestrel.live.hub import Hub
from nestrel.live.source import StoreSource
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection
from nestrel.store.read import catch_up, changes, together
from nestrel.store.read.changes import Changes
from nestrel.store.read.together import ReadRequest
from nestrel.store.write import members
from nestrel.store.write.writer import Writer
from tests.house import House
from tests.support import make_place
from tests.test_write_path import ROLES, change_set, command_of, make


class Quiet:
    """A follower that is told, and asks for nothing."""

    def wake(self, follower: Follower) -> None:
        pass

    def end(self, follower: Follower, reason: str) -> None:
        raise AssertionError("nobody left")

    def joined(self, conversation_id: UUID) -> None:
        pass

    def signalled(self, follower: Follower, signal: object) -> None:
        pass

    def renewed(self) -> None:
        pass


_BODIES = ["a", "b" * 500, "c" * 3_000]


def command(dice: random.Random) -> tuple[Any, ...]:
    """Mostly posts, as in life; and whatever else there is of them."""
    user, seq = dice.choice([*ROLES]), dice.randint(1, 8)
    match dice.choice(["post"] * 4 + ["edit", "remove", "react", "react", "read"]):
        case "edit":
            return "edit", user, seq, dice.choice(_BODIES) + "e"
        case "remove":
            return "remove", user, seq
        case "react":
            return "react", user, seq, dice.choice(["like", "⚓"]), dice.random() < 0.7
        case "read":
            return "read", user, seq
        case _:
            return "post", user, dice.choice(_BODIES)


@pytest.fixture(scope="module")
async def database(make_database: Callable[[], str]) -> AsyncIterator[Database]:
    opened = Database(make_database())
    yield opened
    await opened.close()


async def bring(
    connection: Connection, held: dict[UUID, Replica], at: dict[UUID, ChangePosition], rows: int, size: int, item: int
) -> int:
    """Bring copies to the present as every reader does; returns how many readings it took."""
    for reading in range(1, 10_000):
        states = await changes.states(connection, list(at))
        behind = [id_ for id_ in at if at[id_] != states[id_].position]
        if not behind:
            return reading
        asked = {id_: ReadRequest(at[id_], states[id_]) for id_ in behind}
        found = await together.read(connection, asked, rows, size=size, item=item)
        assert list(found) == behind[: len(found)]
        assert found
        for id_, one in found.items():
            assert len(one.messages) + len(one.members) <= rows
            assert not one.too_large(item)
            assert one.end != at[id_]
            held[id_].apply(change_set(one))
            held[id_].apply(change_set(one))  # a second time changes nothing
            at[id_] = one.end
            assert one.more == (at[id_] != states[id_].position)
            if one.more:
                break  # what comes behind it in the same reading is asked for again
    raise AssertionError("it comes to no end")


def shown(replica: Replica) -> Any:
    messages = [message.model_dump() for message in replica.ordered()]
    return messages, {user: member.model_dump() for user, member in replica.members.items()}, replica.head


@settings(max_examples=40, suppress_health_check=list(HealthCheck), database=None)
@given(
    dice=st.randoms(use_true_random=False),
    away=st.integers(0, 40),
    rows=st.integers(1, 12),
    size=st.sampled_from([1, 900, 4_000, 10**6]),
    item=st.sampled_from([2_500, 5_000, 10**6]),
)
async def test_however_little_goes_into_a_reading_all_of_it_comes(
    database: Database, dice: random.Random, away: int, rows: int, size: int, item: int
) -> None:
    happens = [(dice.randrange(4), command(dice)) for _ in range(40)]
    places = sorted([await make(database) for _ in range(4)])
    writer = Writer(database)
    held = {id_: Replica(str(id_)) for id_ in places}
    epoch = database.history.known.present
    at = {id_: ChangePosition(0, 0, 0, epoch) for id_ in places}

    async def carry_out(some: list[tuple[int, tuple[Any, ...]]]) -> None:
        units = [writer.submit([command_of(places[n], one)]) for n, one in some]
        await asyncio.gather(*units, return_exceptions=True)

    await carry_out(happens[:away])
    async with database.read() as connection:
        await bring(connection, held, at, rows, size, item)
    await carry_out(happens[away:])
    async with database.read() as connection:
        await bring(connection, held, at, rows, size, item)
        for id_ in places:
            whole, newest = Replica(str(id_)), await catch_up.newest(connection, id_, 200)
            assert newest is not None
            whole.apply(change_set(newest))
            assert shown(held[id_]) == shown(whole)


@given(
    needs=st.lists(st.integers(0, 3_000), min_size=1, max_size=50), rows=st.integers(1, 2_000),
    count=st.integers(0, 2_000),
)  # fmt: skip
def test_the_plan(needs: list[int], rows: int, count: int) -> None:
    some = taken(needs, rows)
    assert 1 <= some <= len(needs)
    assert some == 1 or sum(needs[:some]) <= rows
    assert some == 1 or max(needs[:some]) <= ALONE
    assert [n for low, high in looks(count) for n in range(low, high)] == list(range(count))


def test_what_moved_is_bounded_by_the_counters() -> None:
    now = Counters(rev=50, head=30, floor=11, members=4)
    at = ChangePosition(40, 20, 40, 1)
    assert most_rows(at, now) == 10
    assert most_rows(None, now) == 24
    assert only_posts(at, now)
    assert not only_posts(ChangePosition(39, 20, 39, 1), now)
    assert not only_posts(ChangePosition(40, 20, 12, 1), now)


async def test_many_take_the_statements_of_one(house: House) -> None:
    counts = dict[int, int]()
    for many in (1, 100):
        user = f"mara-{many}"
        places = []
        for _ in range(many):
            made = await house.call(user, "POST", "/conversations", {"kind": "group"})
            places.append(made.json()["id"])
        cursor = (await house.call(user, "POST", "/resync", {})).json()["cursor"]
        for place in places:
            await house.call(user, "POST", f"/conversations/{place}/messages", {"body": "moved"})
        answer, asked = await house.counted(user, "POST", "/resync", {"cursor": cursor})
        found = answer.json()
        assert not found["more"]
        assert [len(item["messages"]) for item in found["items"]] == [1] * many
        assert sorted(item["conversation_id"] for item in found["items"]) == sorted(places)
        counts[many] = len(asked)
    assert counts[1] <= 9
    assert counts[100] <= 3 * counts[1]


async def test_of_many_that_moved_elsewhere_each_comes_as_it_would_alone(
    database: Database, monkeypatch: pytest.MonkeyPatch, afterwards: AsyncExitStack
) -> None:
    """And the hub asks for those that it hears of together in few questions."""
    dice, writer = random.Random(7), Writer(database)
    places = [await make_place(database, mara="owner", odd="writer") for _ in range(60)]
    source = StoreSource(database, 1_000)
    hub = Hub(source)
    afterwards.push_async_callback(hub.stop)
    followers = await hub.follow(places, "mara", Quiet())
    async with database.read() as connection:
        before = await changes.states(connection, places)
    for n, place in enumerate(places):
        for _ in range(30 if n % 20 == 0 else dice.randint(0, 3)):
            await writer.submit([Post(place, "odd", dice.choice(["a", "b" * 8_000]))])
        if n % 3 == 0:
            await members.put(database, Caller("mara"), place, "kaz", Role.READER, DEFAULT_QUOTAS)
    wanted = [(place, before[place].position) for place in places]
    wanted.insert(5, wanted[3])  # one that is asked for twice
    wanted.append((uuid4(), wanted[0][1]))
    async with database.read() as connection:
        now = await changes.states(connection, places)
        together_ = await catch_up.since_each(connection, wanted, 500)
        alone = [await catch_up.since(connection, *one, 500) for one in wanted]
    assert together_ == alone
    asked = list[int]()
    since = source.since

    async def counted(of: Sequence[tuple[UUID, ChangePosition]], limit: int) -> Sequence[Changes | None]:
        asked.append(len(of))
        return await since(of, limit)

    monkeypatch.setattr(source, "since", counted)
    hub.heard([Moved(place, now[place].rev) for place in places])
    while any(follower.channel.reading for follower in followers):
        await asyncio.sleep(0)
    assert [follower.channel.at for follower in followers] == [now[place].position for place in places]
    assert sum(asked) >= sum(now[place].rev > before[place].rev for place in places)
    assert len(asked) <= 8
