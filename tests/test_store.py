"""The store below every door: the group commit, and the erasing of what was closed."""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from contextlib import AsyncExitStack
from typing import Any
from uuid import UUID, uuid4

import orjson
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from nestrel.core.callers import Caller
from nestrel.core.commands import Post
from nestrel.core.cursors import ChangePosition
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.retention import Rule
from nestrel.core.roles import Role
from nestrel.live.channel import Follower
from nestrel.live.hub import Hub
from nestrel.live.source import StoreSource
from nestrel.store import events, native
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.keep import closed as closed_ones
from nestrel.store.keep import retention, sweep
from nestrel.store.native import fetch
from nestrel.store.read import resync
from nestrel.store.read.changes import Changes
from nestrel.store.words import Words
from nestrel.store.write import conversations, members
from nestrel.store.write.answers import Growth
from nestrel.store.write.writer import Writer
from tests.support import PATIENCE, make_place


async def make(database: Database) -> UUID:
    return await make_place(database, mara="owner")


async def count(database: Database, sql: str) -> int:
    async with database.read() as connection:
        return int((await fetch(connection, sql))[0][0])


async def test_posts_that_wait_go_together_and_keep_their_order(database: Database) -> None:
    places = [await make(database) for _ in range(4)]
    batches: list[int] = []
    growths: list[Growth] = []
    writer = Writer(database, growths.extend, batches.append)
    futures = [writer.submit([Post(places[n % 4], "mara", f"{n}")]) for n in range(400)]
    posted = [(await future)[0].object for future in futures]
    assert [message["seq"] for message in posted] == [n // 4 + 1 for n in range(400)]
    assert sum(batches) == 400
    assert len(batches) < 40
    for place in places:
        own = [growth for growth in growths if growth.conversation_id == place]
        assert [growth.rev_before for growth in own[1:]] == [growth.rev for growth in own[:-1]]
        assert sum(len(growth.messages) for growth in own) == 100
    assert writer.waiting == 0


async def test_what_the_store_cannot_take_fails_alone(database: Database) -> None:
    """A body that no door lets through: PostgreSQL refuses it, and its neighbours of the same transaction are kept."""
    place = await make(database)
    writer = Writer(database)
    bodies = ["a", "b", "nul \x00", "c"]
    futures = [writer.submit([Post(place, "mara", body, key=body)]) for body in bodies]
    answers = await asyncio.gather(*futures, return_exceptions=True)
    assert isinstance(answers[2], Exception)
    assert [answers[n][0].object["seq"] for n in (0, 1, 3)] == [1, 2, 3]  # type: ignore[index]  # those are answers
    assert await count(database, "SELECT count(*) FROM nestrel.messages") == 3


async def test_what_a_closed_conversation_held_is_erased_in_steps(database: Database) -> None:
    kept, closed = await make(database), await make(database)
    writer = Writer(database)
    for place in (kept, closed):
        for _ in range(7):
            await writer.submit([Post(place, "mara", "x", key=uuid4().hex) for _ in range(500)])
    await retention.put(database, closed, Rule(keep_last=2_500), confirmed=True)
    await sweep.step(database)  # so that some of it is archived, and some still waits
    await retention.put(database, closed, Rule(keep_last=2_300), confirmed=True)
    await conversations.close(database, Caller("mara"), closed)
    steps = 0
    while await closed_ones.step(database):
        steps += 1
    assert steps == 2
    for table in ("expired_backlog", "expired_keys", "archive_segments", "archive_authors"):
        assert await count(database, f"SELECT count(*) FROM nestrel.{table} WHERE conversation_id = '{closed}'") == 0
    assert await count(database, f"SELECT count(*) FROM nestrel.messages WHERE conversation_id = '{closed}'") == 0
    assert await count(database, f"SELECT count(*) FROM nestrel.messages WHERE conversation_id = '{kept}'") == 3_500
    assert (
        await count(
            database, "SELECT count(*) FROM nestrel.conversations WHERE erased AND title = '' AND message_count = 0"
        )
        == 1
    )


@settings(max_examples=50, suppress_health_check=list(HealthCheck), database=None)
@given(
    words=st.lists(st.none() | st.text(st.characters(exclude_characters="\x00", exclude_categories=["Cs"]))),
    hashed=st.lists(st.none() | st.binary()),
    numbers=st.lists(st.none() | st.integers(-(2**63), 2**63 - 1)),
)
async def test_arrays_as_text_come_over_as_they_are(
    database: Database, words: list[str | None], hashed: list[bytes | None], numbers: list[int | None]
) -> None:
    sql = "SELECT $1::text::text[], $2::text::bytea[], $3::text::bigint[]"
    async with database.read() as connection:
        [row] = await native.fetch(connection, sql, native.texts(words), native.hashes(hashed), native.array(numbers))
    assert [*row] == [words, hashed, numbers]


def test_events_of_any_number_come_over_in_payloads_that_the_bus_takes() -> None:
    crew = tuple(f"{n} " + "\U0001f6a2" * 120 for n in range(50))
    sent = [Moved(UUID(int=n), n, crew if n == 7 else ()) for n in range(300)]
    words = Words(b"a key of the test's own")
    payloads = list(events.pack(words, "here", sent))
    assert max(len(payload.encode()) for payload in payloads) < 8_000
    assert not any(str(UUID(int=n)) in payload for n in (7, 8) for payload in payloads)
    opened = [words.open(payload) for payload in payloads]
    heard = [event for payload in opened for event in events.unpack(payload, "elsewhere").moved]
    assert sorted({(event.conversation_id, event.rev) for event in heard}) == [(UUID(int=n), n) for n in range(300)]
    assert tuple(user for event in heard for user in event.joined) == crew
    assert [event for payload in opened for event in events.unpack(payload, "here").moved] == []
    changed = payloads[0][:20] + ("A" if payloads[0][20] != "A" else "B") + payloads[0][21:]
    for wrong in (changed, Words(b"another").seal(b"{}"), '{"node":null,"moved":[]}', "", "é"):
        with pytest.raises(ValueError, match="not a word"):
            words.open(wrong)


async def test_the_counters_agree_with_the_rows(database: Database) -> None:
    places = [await make(database) for _ in range(3)]
    writer = Writer(database)
    for n in range(60):
        await writer.submit([Post(places[n % 3], "mara", "x", key=f"{n % 40}")])
    wrong = """
        SELECT count(*) FROM nestrel.conversations c WHERE (head, message_count, member_count, rev) IS DISTINCT FROM (
            (SELECT coalesce(max(seq), 0) FROM nestrel.messages m WHERE m.conversation_id = c.id),
            (SELECT count(*) FROM nestrel.messages m WHERE m.conversation_id = c.id),
            (SELECT count(*) FROM nestrel.members m WHERE m.conversation_id = c.id AND left_at IS NULL),
            (SELECT greatest(max(m.rev), 2) FROM nestrel.messages m WHERE m.conversation_id = c.id))
    """
    assert await count(database, wrong) == 0


class Heard:
    """A listener that keeps what the hub tells it."""

    def __init__(self) -> None:
        self.ended: list[tuple[str, str]] = []
        self.woken = asyncio.Event()

    def wake(self, follower: Follower) -> None:
        self.woken.set()

    def end(self, follower: Follower, reason: str) -> None:
        self.ended.append((follower.user_id, reason))

    def joined(self, conversation_id: UUID) -> None:
        raise AssertionError("nobody joins here")

    def signalled(self, follower: Follower, signal: object) -> None:
        raise AssertionError("nobody signals here")

    def renewed(self) -> None:
        raise AssertionError("nothing was restored here")


async def test_who_left_in_a_gap_too_large_for_the_ring_is_told_and_follows_no_more(
    database: Database, afterwards: AsyncExitStack
) -> None:
    """Another process writes more than the hub reads at once, and among it a member leaves."""
    place = await make(database)
    await members.put(database, Caller("mara"), place, "odd", Role.WRITER, DEFAULT_QUOTAS)
    hub, heard = Hub(StoreSource(database, 1_000)), Heard()
    afterwards.push_async_callback(hub.stop)
    (stays,) = await hub.follow([place], "mara", heard)
    (leaves,) = await hub.follow([place], "odd", heard)
    elsewhere = Writer(database)
    await members.end(database, Caller("odd"), place, "odd")
    for _ in range(3):
        await elsewhere.submit([Post(place, "mara", "x") for _ in range(300)])
    now = await count(database, "SELECT rev FROM nestrel.conversations")
    hub.heard([Moved(place, now)])
    await asyncio.wait_for(heard.woken.wait(), PATIENCE)
    assert heard.ended == [("odd", "left")]
    assert (stays.live, leaves.live) == (True, False)


async def test_a_read_overtaken_by_an_own_commit_brings_nobody_a_row_twice(
    database: Database, monkeypatch: pytest.MonkeyPatch, afterwards: AsyncExitStack
) -> None:
    """The hub reads from the store what another process wrote; before it has it, a commit of its own is handed on."""
    place = await make(database)
    source, heard = StoreSource(database, 1_000), Heard()
    hub = Hub(source)
    afterwards.push_async_callback(hub.stop)
    (follower,) = await hub.follow([place], "mara", heard)
    own: list[Growth] = []
    await Writer(database, own.extend).submit([Post(place, "mara", "of this process")])
    await Writer(database).submit([Post(place, "mara", "of another")])
    read = source.since
    reads = 0

    async def overtaken(*args: Any) -> Sequence[Changes | None]:
        nonlocal reads
        reads += 1
        found = await read(*args)
        hub.grown(own)
        return found

    monkeypatch.setattr(source, "since", overtaken)
    hub.heard([Moved(place, await count(database, "SELECT rev FROM nestrel.conversations"))])
    while follower.channel.reading is not None:
        await asyncio.wait({follower.channel.reading})
    sets = [orjson.loads("{" + entry.tail) for entry in follower.channel.ring]
    assert [[message["body"] for message in each["messages"]] for each in sets] == [["of this process"], ["of another"]]
    assert [entry.start.rev for entry in follower.channel.ring] == [2, 3]
    assert reads == 2


async def test_what_a_list_of_conversations_has_no_room_for_is_not_gone(
    database: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A member of more conversations than a resync from a map goes through keeps those that the map names."""
    place = await make(database)
    await Writer(database).submit([Post(place, "mara", "x")])
    monkeypatch.setattr(resync, "MANY", 0)
    async with database.read() as connection:
        found = await resync.from_map(
            connection, "mara", {place: ChangePosition(2, 0, 2, database.history.known.present)}, 100, 1_000
        )
    assert found.gone == []
    assert [[message["body"] for message in item.messages] for item in found.items] == [["x"]]


async def test_a_change_set_that_waits_for_a_slow_reader_is_dropped_when_its_messages_expire(
    database: Database,
    afterwards: AsyncExitStack,
) -> None:
    """Whoever has not pulled it reads what is left from the store: nobody gets an expired message late."""
    place = await make(database)
    await retention.put(database, place, Rule(keep_last=2), confirmed=False)
    hub, heard = Hub(StoreSource(database, 1_000)), Heard()
    afterwards.push_async_callback(hub.stop)
    (slow,) = await hub.follow([place], "mara", heard)
    writer = Writer(database, hub.grown)
    for n in range(5):
        await writer.submit([Post(place, "mara", f"m{n}")])
    assert slow.at is not None
    assert slow.channel.next_entry(slow.at) is None
    bodies = "".join(entry.tail for entry in slow.channel.ring)
    assert ("m2" in bodies, "m3" in bodies, "m4" in bodies) == (False, True, True)


async def test_a_task_that_is_cancelled_as_a_transaction_begins_or_ends_takes_no_later_one_with_it(
    make_database: Callable[[], str],
    afterwards: AsyncExitStack,
) -> None:
    """Whatever is written after it on the same connection is committed when it is acknowledged."""
    url = make_database()
    one, other = Database(url, pool_size=1), Database(url)
    for opened in (one, other):
        afterwards.push_async_callback(opened.close)

    async def nothing() -> None:
        async with one.write() as connection:
            await native.fetch(connection, "SELECT 1")

    for turns in range(40):
        task = asyncio.create_task(nothing())
        for _ in range(turns):
            await asyncio.sleep(0)
        task.cancel()
        await asyncio.wait({task})
        place = await make(one)
        async with other.read() as connection:
            found = await native.fetch(connection, "SELECT id FROM nestrel.conversations WHERE id = $1", place)
        assert [row[0] for row in found] == [place], f"lost after a cancellation at turn {turns}"
