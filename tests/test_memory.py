"""What the write path remembers: two processes on one store, against a model that knows the truth; and with each
remembered fact wrong on purpose."""

from __future__ import annotations

import asyncio
import contextlib
import random
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime
from typing import Any
from uuid import UUID, uuid4

import pytest

from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, Post, React, Read
from nestrel.core.locked import Locked
from nestrel.core.problems import Expired, Forbidden, InvalidRequest, KeyReused, NotFound, Problem
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.retention import Rule
from nestrel.core.roles import Kind, Role, Visibility
from nestrel.store import epochs
from nestrel.store.database import Database
from nestrel.store.keep import retention, sweep
from nestrel.store.native import execute, fetch
from nestrel.store.write import at_once, batch, facts, members, profiles
from nestrel.store.write.answers import Growth
from nestrel.store.write.memory import Author, Memory
from nestrel.store.write.writer import Writer
from tests.support import make_place

AUTHORS = ["mara", "odd", "petra"]
OFFICE = Caller("office", service=True)

# What stands in the store: its messages' numbers, and each author's, without a gap.
_ODD_ONES = """
SELECT conversation_id, seq, author_id, author_n FROM (
    SELECT m.*, author_n - row_number() OVER (PARTITION BY conversation_id, author_id ORDER BY seq) AS drift
    FROM nestrel.messages m) x
WHERE drift <> (SELECT min(y.author_n) - 1 FROM nestrel.messages y
                WHERE y.conversation_id = x.conversation_id AND y.author_id = x.author_id)
"""


@dataclass
class Room:
    """The truth about one conversation."""

    id: UUID
    roles: dict[str, Role | None]
    head: int = 0
    keep: int | None = None
    keys: dict[tuple[str, str], tuple[int, str]] = field(default_factory=dict)

    @property
    def floor(self) -> int:
        return 1 if self.keep is None else max(1, self.head - self.keep + 1)

    def post(self, author: str, key: str | None, body: str, floor: int) -> int | type[Problem]:
        """The number that the message has, or what refuses it. A floor moves at the end of a transaction."""
        seen = self.keys.get((author, key)) if key is not None else None
        if seen is not None:
            seq, before = seen
            return Expired if seq < floor else seq if before == body else KeyReused
        role = self.roles[author]
        if role is None or role is Role.READER:
            return NotFound if role is None else Forbidden
        self.head += 1
        if key is not None:
            self.keys[author, key] = (self.head, body)
        return self.head


def locked() -> Locked:
    return Locked(uuid4(), Kind.GROUP, Visibility.CLOSED, 0, 1, 5, datetime(2026, 1, 1, tzinfo=UTC), False)


class Play:
    """A seed's worth of commands through two processes."""

    def __init__(self, database: Database, seed: int) -> None:
        self.dice = random.Random(seed)
        self.database = database
        self.names: dict[str, str] = {}
        self.shown: list[Growth] = []
        self.writers = [Writer(database, self.shown.extend) for _ in range(2)]
        self.rooms: list[Room] = []
        self.next = 0

    async def run(self, steps: int) -> None:
        for author in AUTHORS:
            await profiles.first_sight(self.database, author, author.title(), None)
            self.names[author] = author.title()
        for _ in range(2):
            place = await make_place(self.database, **dict.fromkeys(AUTHORS, "writer"))
            self.rooms.append(Room(place, dict.fromkeys(AUTHORS, Role.WRITER)))
        for _ in range(steps):
            room = self.dice.choice(self.rooms)
            what = self.dice.randrange(20)
            if what < 12:
                await self.posts(self.dice.choice(self.writers))
            elif what < 15:
                await self.role(room)
            elif what < 17:
                await self.touch(room, self.dice.choice(self.writers))
            elif what == 17:
                await self.rename()
            elif room.keep is None and self.dice.random() < 0.3:
                await self.rule(room)
            else:
                await sweep.step(self.database)
        async with self.database.read() as connection:
            assert await fetch(connection, _ODD_ONES) == []

    async def posts(self, writer: Writer) -> None:
        """Some posts at one moment, each of which is answered for itself."""
        wanted: list[tuple[Room, Post]] = []
        for _ in range(self.dice.randint(1, 5)):
            room, author = self.dice.choice(self.rooms), self.dice.choice(AUTHORS)
            key, body = None, "hello"
            if self.dice.random() < 0.9:
                self.next += 1
                key = f"k{self.next}"
            used = [one for one in room.keys if one[0] == author]
            if used and self.dice.random() < 0.2:
                key = self.dice.choice(used)[1]
                body = self.dice.choice(["hello", "hello", "other"])
            wanted.append((room, Post(room.id, author, body, key=key)))
        self.shown.clear()
        floors = [room.floor for room, _ in wanted]
        asked = [writer.submit([post]) for _, post in wanted]
        for (room, post), floor, answer in zip(wanted, floors, asked, strict=True):
            expected = room.post(post.author_id, post.key, post.body, floor)
            try:
                found: int | type[Problem] = (await answer)[0].object["seq"]
            except Problem as problem:
                found = type(problem)
            assert found == expected, (post.author_id, post.key, room.roles)
        for growth in self.shown:
            assert {user: one["display_name"] for user, one in growth.profiles.items()} == {
                user: self.names[user] for user in growth.profiles
            }

    async def role(self, room: Room) -> None:
        author = self.dice.choice(AUTHORS)
        role = self.dice.choice([None, Role.READER, Role.WRITER])
        if role is None:
            with contextlib.suppress(NotFound):
                await members.end(self.database, OFFICE, room.id, author)
        elif room.roles[author] is None:
            await members.put(self.database, OFFICE, room.id, author, role, DEFAULT_QUOTAS)
        else:
            await members.change(self.database, OFFICE, room.id, author, role)
        room.roles[author] = role

    async def rule(self, room: Room) -> None:
        """A rule, also one that an operator has written into the row: it takes no `rev`, and holds from the next post
        on."""
        writers = [author for author, role in room.roles.items() if role is Role.WRITER]
        keep = self.dice.randint(2, 6)
        if self.dice.random() < 0.5 and writers:
            async with self.database.write() as connection:
                by_hand = "UPDATE nestrel.conversations SET keep_last = $2, inherits = NULL WHERE id = $1"
                await execute(connection, by_hand, room.id, keep)
            try:
                await self.dice.choice(self.writers).submit([Post(room.id, self.dice.choice(writers), "x")])
            except Problem as problem:
                raise AssertionError("a writer may post") from problem
            room.head += 1
        else:
            await retention.put(self.database, room.id, Rule(keep_last=keep), confirmed=True)
        room.keep = keep

    async def touch(self, room: Room, writer: Writer) -> None:
        """Something else that takes a `rev`, or is refused."""
        seq, author = self.dice.randint(room.floor, max(room.floor, room.head)), self.dice.choice(AUTHORS)
        commands: list[Command] = [Edit(room.id, author, seq, "new"), React(room.id, author, seq, "like", True)]
        with contextlib.suppress(Problem):
            await writer.submit([self.dice.choice([*commands, Read(room.id, author, seq)])])

    async def rename(self) -> None:
        self.next += 1
        author = self.dice.choice(AUTHORS)
        self.names[author] = f"{author.title()} {self.next}"
        await profiles.change(self.database, author, {"display_name": self.names[author]})
        while await profiles.go_on(self.database):
            pass


@pytest.mark.parametrize("seed", range(8))
async def test_two_processes_that_remember_answer_as_one_that_does_not(
    database: Database, seed: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    if seed % 2:
        _doubting_nobody(monkeypatch)
    await Play(database, seed).run(60)


def _doubting_nobody(monkeypatch: pytest.MonkeyPatch) -> None:
    """Each key that is used again collides."""
    monkeypatch.setattr(Memory, "doubts", lambda *_: False)


def _keeping(change: Callable[[Author], Author]) -> Callable[[pytest.MonkeyPatch], None]:
    def wrong(monkeypatch: pytest.MonkeyPatch) -> None:
        keep = Memory.keep
        monkeypatch.setattr(
            Memory, "keep", lambda self, place, learned: keep(self, place, {u: change(a) for u, a in learned.items()})
        )

    return wrong


def _another_rev(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Memory, "_held", lambda self, place: self._places.get(place.id.int))


def _swept_keys(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(facts, "_index_decides", lambda _place: True)


def _unasked(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(batch, "_refused_unasked", lambda *_: False)


def _without(condition: str) -> Callable[[pytest.MonkeyPatch], None]:
    """The statement that writes at once does not look whether the conversation stands as it was left."""

    def wrong(monkeypatch: pytest.MonkeyPatch) -> None:
        assert condition in at_once._POST
        parameter = condition.split()[-1]
        monkeypatch.setattr(at_once, "_POST", at_once._POST.replace(condition, f"{parameter}::bigint IS NOT NULL"))

    return wrong


def _absence(monkeypatch: pytest.MonkeyPatch) -> None:
    """Whoever is not known is taken for no member."""
    authors = Memory.authors

    class Everyone(dict[str, Author]):
        def get(self, user: str, default: object = None) -> Author:
            return dict.get(self, user) or Author(Role.READER, 0, ("x", None, 1))

    monkeypatch.setattr(Memory, "authors", lambda self, place: Everyone(authors(self, place)))


@pytest.mark.parametrize(
    "fault",
    [
        _keeping(lambda one: one._replace(role=Role.READER)),
        _keeping(lambda one: one._replace(ordinal=one.ordinal - 1)),
        _keeping(lambda one: one._replace(profile=("Someone", None, 1))),
        _another_rev, _swept_keys, _unasked, _absence, _without("guard = $3"),
    ],
    ids=["role", "ordinal", "profile", "rev", "swept", "unasked", "absence", "guard"],
)  # fmt: skip
async def test_a_fact_that_is_remembered_wrong_is_noticed(
    make_database: Callable[[], str], monkeypatch: pytest.MonkeyPatch, fault: Callable[[pytest.MonkeyPatch], None]
) -> None:
    _doubting_nobody(monkeypatch)
    fault(monkeypatch)
    with pytest.raises(AssertionError):
        for seed in range(30):
            database = Database(make_database())
            try:
                await Play(database, seed).run(60)
            finally:
                await database.close()


def test_another_epoch_is_another_memory() -> None:
    place = locked()
    memory = Memory()
    memory.keep(place, {"mara": Author(Role.OWNER, 3, None)})
    assert memory.authors(place)
    assert not memory.authors(replace(place, epoch=1))
    assert not memory.authors(replace(place, rev=6))


async def test_a_key_that_collides_costs_one_batch_and_its_neighbours_nothing(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The batch goes again, with every key looked up; its author's are from then on."""
    tried: list[bool] = []
    write = Writer._write

    async def counted(self: Writer, units: Any, patient: bool, careful: bool) -> Any:
        tried.append(careful)
        return await write(self, units, patient, careful)

    monkeypatch.setattr(Writer, "_write", counted)
    monkeypatch.setattr("nestrel.store.write.memory._ALL_DOUBT_SECONDS", 0.0)
    writer = Writer(database, followed=lambda _: False)
    place = await make_place(database, mara="owner", odd="writer")
    for n in range(3):
        await writer.submit([Post(place, "mara", "x", key=f"m{n}")])
        await writer.submit([Post(place, "odd", "x", key=f"o{n}")])
    tried.clear()
    again = writer.submit([Post(place, "mara", "x", key="m0")])
    fresh = writer.submit([Post(place, "odd", "y", key="o9")])
    assert ((await again)[0].object["seq"], (await fresh)[0].object["seq"]) == (1, 7)
    assert tried == [False, True]
    tried.clear()
    assert (await writer.submit([Post(place, "mara", "x", key="m1")]))[0].object["seq"] == 3
    assert (await writer.submit([Post(place, "odd", "z", key="o10")]))[0].object["seq"] == 8
    assert tried == [False, False]


async def test_a_refusal_that_is_looked_into_waits_for_nobody_elses_lock(database: Database) -> None:
    """Beside a post into a conversation that a stranger holds: the refused one has its answer while that waits."""
    writer = Writer(database, followed=lambda _: False)
    held, place = [await make_place(database, mara="owner") for _ in range(2)]
    await writer.submit([Post(place, "mara", "x", key="m0")])
    async with database.write() as stranger:
        await facts.lock(stranger, [held])
        waiting = writer.submit([Post(held, "mara", "x", key="m1")])
        with pytest.raises(InvalidRequest):
            await writer.submit([Post(place, "mara", "x", key="m2", reply_to=99)])
        assert not waiting.done()
    assert (await waiting)[0].object["seq"] == 1


async def test_what_is_written_at_once_waits_for_nobodys_lock_and_is_not_written_beside_another(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One statement where the conversation stands as it was left; where somebody holds it, or has moved it or it was
    put into another epoch since, the long way decides."""
    done: list[bool] = []
    write = at_once.write

    async def counted(*args: Any) -> Any:
        written = await write(*args)
        done.append(written is not None)
        return written

    monkeypatch.setattr(at_once, "write", counted)
    writer, elsewhere = [Writer(database, followed=lambda _: False) for _ in range(2)]
    place, other = [await make_place(database, mara="owner") for _ in range(2)]

    async def post(by: Writer, where: UUID, key: str) -> int:
        seq: int = (await by.submit([Post(where, "mara", "x", key=key)]))[0].object["seq"]
        return seq

    for n in range(1, 4):
        assert (await post(writer, place, f"a{n}"), await post(writer, other, f"b{n}")) == (n, n)
    assert done == [False, False, True, True, True, True]
    done.clear()
    async with database.write() as stranger:
        await facts.lock(stranger, [place])
        waiting = asyncio.ensure_future(post(writer, place, "a4"))
        assert await post(writer, other, "b4") == 4
        assert not waiting.done()
    assert await waiting == 4
    assert await post(elsewhere, place, "a5") == 5
    done.clear()
    assert [await post(writer, place, "a6"), await post(writer, place, "a7")] == [6, 7]
    assert done == [False, True]
    async with database.read() as connection:
        await epochs.begin(connection, set_back=database.history.known.present)
    done.clear()
    assert [await post(writer, place, "a8"), await post(writer, place, "a9")] == [8, 9]
    assert done == [False, True]
    times = (
        "SELECT count(*) FROM (SELECT created_at < lag(created_at) OVER (ORDER BY seq) AS back FROM nestrel.messages) m"
    )
    async with database.read() as connection:
        assert (await fetch(connection, f"{times} WHERE back"))[0][0] == 0


def test_a_memory_is_bounded() -> None:
    memory = Memory(most=10)
    places: list[Locked] = [locked() for _ in range(30)]
    for place in places:
        memory.keep(place, {"mara": Author(Role.OWNER, 3, None), "odd": Author(Role.WRITER, 1, None)})
    assert [bool(memory.authors(place)) for place in places] == [False] * 25 + [True] * 5
    memory.doubt(f"user-{n}" for n in range(20_000))
    assert memory.doubts("user-19999")
    assert not memory.doubts("user-1")
