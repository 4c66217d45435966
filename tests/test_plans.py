"""Every hot statement, explained over a schema in which what belongs to a conversation is partitioned by it: each
look-up binds the conversation, so that it meets one partition, and is a look-up by index."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

import asyncpg
import pytest

from nestrel.core.callers import Caller
from nestrel.core.commands import Edit, Post, React, Read, Remove
from nestrel.core.durations import Duration
from nestrel.core.paging import HistoryQuery, MessagePosition
from nestrel.core.problems import NotFound
from nestrel.core.quotas import DEFAULT_QUOTAS
from nestrel.core.retention import Rule
from nestrel.core.rights import Action
from nestrel.live.moves import Moves
from nestrel.live.source import StoreSource
from nestrel.store import constraints, epochs, replicas, snapshots
from nestrel.store.access import AccessReader, see
from nestrel.store.database import SETTINGS, Database
from nestrel.store.keep import archive, collecting, indexing, retention, sweep
from nestrel.store.keep import journal as trimming
from nestrel.store.native import Connection, fetch
from nestrel.store.partitions import OWNED, InUse, partition
from nestrel.store.read import (
    attachments,
    catch_up,
    changes,
    conversations,
    edits,
    history,
    journal,
    members,
    people,
    profiles,
    reactions,
    receipts,
    resync,
    said,
)  # fmt: skip
from nestrel.store.read.resync import Pending
from nestrel.store.write import at_once, barring, blocks, connections, keeping_out, repeats, sessions, uploads
from nestrel.store.write import conversations as changing
from nestrel.store.write import members as joining
from nestrel.store.write.uploads import Came
from nestrel.store.write.writer import Writer
from tests.support import make_place

GROWING = {
    *OWNED, "conversations", "profiles", "expiry_due", "expired_backlog", "journal", "search_blocks", "search_places",
    "person_words", "conversation_words", "attachments", "attached", "objects", "previews", "uploaded",
    "kept_out", "blocks", "barred", "connections", "ended_sessions",
}  # fmt: skip

# Of one user, across their conversations, and of who has just joined: each with an index of its own.
ACROSS = {"members": ("user_id =", "joined_xid >"), "archive_authors": ("author_id =",)}


@pytest.fixture
def heard(monkeypatch: pytest.MonkeyPatch) -> set[str]:
    """The statements that go to the database."""
    found: set[str] = set()
    named = Connection.named

    def listening(connection: Connection, sql: str) -> str:
        found.add(sql)
        return named(connection, sql)

    monkeypatch.setattr(Connection, "named", listening)
    return found


async def everything_that_is_hot(database: Database) -> None:
    """What posts, pages, deliveries, returns and sweeps ask for, each at least once."""
    mara, odd = Caller("mara"), Caller("odd")
    place = await make_place(database, mara="owner", odd="writer")
    writer = Writer(database)
    await writer.submit([Post(place, "mara", f"{n}", key=f"k{n}") for n in range(40)])
    await writer.submit([Post(place, "mara", "0", key="k0"), Post(place, "odd", "re", key="r", reply_to=3)])
    await writer.submit([Post(place, "mara", "you there", mentions=("odd",))])
    await writer.submit([Edit(place, "mara", 42, "and you", mentions=("mara",))])
    await indexing.bring(database, [place])
    await repeats.known(database, [Post(place, "mara", "0", key="k0")])
    for command in (
        Edit(place, "mara", 32, "two"), React(place, "odd", 33, "like", True), React(place, "mara", 33, "like", True),
        Read(place, "odd", 9), Remove(place, "mara", 4), React(place, "odd", 33, "like", False),
    ):  # fmt: skip
        await writer.submit([command])
    quiet = Writer(database, followed=lambda _: False)
    for early in ("early", "earlier"):  # the second is written at once
        await quiet.submit([Post(place, "mara", early, key=early)])
    await files_that_come_and_go(database, writer, place)
    start = await Moves(StoreSource(database, 1_000)).read_on()
    await joining.put(database, mara, place, "petra", None, DEFAULT_QUOTAS)
    await changing.change(database, mara, place, {"title": "Quay"})
    await order_is_kept(database, mara, place)
    await retention.put(database, place, Rule(keep_last=20), confirmed=True)
    await sweep.step(database)
    await retention.put(database, place, Rule(keep_for=Duration.parse("P1Y")), confirmed=True)
    for late in ("late", "later"):  # of the second, the author is remembered
        await quiet.submit([Post(place, "mara", late, key=late)])
    await retention.age(database)
    await indexing.bring(database, [place])
    await indexing.renew(database, -60.0)
    await trimming.trim(database)
    await AccessReader(database).see(place, mara, Action.SEE)
    async with database.read() as connection:
        access = await see(connection, place, mara, Action.SEE)
        now = datetime.now(UTC)
        for query in (
            HistoryQuery(10), HistoryQuery(10, descending=False), HistoryQuery(10, around=30),
            HistoryQuery(10, before=30), HistoryQuery(10, after=30), HistoryQuery(10, author="mara"),
            HistoryQuery(10, since=now - timedelta(days=1), until=now),
        ):  # fmt: skip
            await history.read(connection, access, query)
        await history.stood_still(connection, access, ["mara"])
        await replicas.holds(connection, access)
        await archive.digest(connection, place, 1)
        await archive.written(connection, place)
        await history.one(connection, place, 30)
        first = await catch_up.newest(connection, place, 5)
        assert first is not None
        await catch_up.since(connection, place, first.end, 50, most=1_000)
        await changes.states(connection, [place])
        for scope in ("mine", "open"):
            await conversations.page(connection, scope, odd, 10, None, None)
        await conversations.page(connection, "mine", odd, 10, None, "quay")
        await conversations.show(connection, place, "odd")
        await members.page(connection, place, 10, "")
        await members.show(connection, place, "odd")
        await members.departed(connection, place, ["odd"])
        await members.why_gone(connection, place, "odd")
        await profiles.read(connection, ["mara", "odd"])
        await receipts.unread(connection, [(place, "odd", 9)])
        await receipts.readers(connection, place, 30, 10, "")
        await reactions.page(connection, place, 30, 10, ("", ""), None)
        await edits.page(connection, place, 30, 10, 0)
        await snapshots.now(connection)
        await indexing.behind(connection, UUID(int=0), 100)
        await people.find(connection, "odd", "ma", 10, None)
        await people.find(connection, None, "ma", 10, None)
        await people.visible(connection, "odd", "mara")
        for older in (True, False):
            await said.page(connection, "odd", "mara", 10, older=older, after=MessagePosition(now, place, 30))
        await resync.from_cursor(connection, "odd", None, 100, 1_000)
        await resync.from_cursor(connection, "odd", start, 100, 1_000)
        await resync.from_map(connection, "odd", {place: first.end}, 100, 1_000)
        await resync.from_cursor(connection, "odd", start, 100, 1_000, (start, [place]))
        await resync.memberships(connection, [("odd", start.xmin), ("mara", start.xmin)])
        await resync.still_of(connection, [("odd", [place]), ("mara", [place])])
        await resync.begun(connection, start, [Pending(place)], 1_000)
        await barring.met(connection, ["odd", "mara"])
        await connections.elsewhere(connection, ["odd", "mara"], "node")
        await journal.tail(connection, None)
        await journal.tail(connection, start)


async def order_is_kept(database: Database, mara: Caller, place: UUID) -> None:
    """What is asked for in the path of a post, of a page, or of a sign-in, about who may."""
    await keeping_out.put(database, mara, place, "tam", None, "fog")
    await blocks.put(database, "odd", "tam")
    await joining.hide(database, mara, place, "mara", hidden=True)
    async with database.read() as connection:
        await keeping_out.page(connection, place, 10, "")
        await blocks.page(connection, "odd", 10, "")
        await blocks.blocked_by(connection, "tam", ["odd", "petra"])
        await barring.met(connection, ["tam"])
        await barring.changed(connection, datetime.now(UTC), 10)
        await sessions.ended(connection, b"x")
        await connections.elsewhere(connection, ["odd"], "node")
    await joining.hide(database, mara, place, "mara", hidden=False)
    await keeping_out.let_in(database, mara, place, "tam")


async def files_that_come_and_go(database: Database, writer: Writer, place: UUID) -> None:
    mara = Caller("mara")
    async with database.read() as connection:
        access = await see(connection, place, mara, Action.SEE)
    kept = []
    for n in range(2):
        await uploads.begin(database, access, uuid4(), "mara", f"{n}", 1, bytes(32), bound=True)
        await uploads.begin(database, access, id_ := uuid4(), "mara", f"{n}", 1, None, bound=True)
        came = Came(id_, "mara", f"{n}", "image/png", 1, bytes([n] * 32), 1, 1, True)
        kept.append((await uploads.finish(database, place, uuid4(), came, mara, bound=True))[0].id)
    [posted] = await writer.submit([Post(place, "mara", "", attachments=(kept[0],))])
    seq = posted.object["seq"]
    async with database.read() as connection:
        shown = await attachments.show(connection, access, mara, kept[0])
        await attachments.preview(connection, shown.object_id, 320)
        with pytest.raises(NotFound):
            await attachments.show(connection, access, mara, uuid4())
    await uploads.announce(database, place, id_ := uuid4())
    await collecting.add_preview(database, shown.object_id, 320, id_)
    await writer.submit([Edit(place, "mara", seq, "", attachments=(kept[1],))])
    await writer.submit([Remove(place, "mara", seq)])
    await collecting.loosen(database)
    await collecting.forget(database, await collecting.take(database))
    await collecting.forget_days(database)


def nodes(plan: dict[str, Any]) -> Iterator[dict[str, Any]]:
    yield plan
    for inner in plan.get("Plans", ()):
        yield from nodes(inner)


def faults(plan: dict[str, Any]) -> Iterator[str]:
    for node in nodes(plan):
        table = constraints.whole(node.get("Relation Name", ""))
        if table not in GROWING or node["Node Type"] not in ("Seq Scan", "Index Scan", "Index Only Scan"):
            continue
        bound, index = node.get("Index Cond", ""), node.get("Index Name", "")
        if node["Node Type"] == "Seq Scan":
            yield f"{table} is read from end to end"
        elif (
            table in OWNED
            and "conversation_id =" not in bound
            and not any(part in bound for part in ACROSS.get(table, ()))
        ):
            yield f"{table} by {index}, with no conversation: {bound}"


async def explained(connections: Sequence[asyncpg.Connection[Any]], sql: str) -> list[str]:
    """What is wrong with the plan of a statement, which is the same whatever the values are. Over partitions those
    are left out that a bound value excludes, so the plain tables are looked at as well."""
    found: dict[str, None] = {}
    for connection in connections:
        await connection.execute(f"PREPARE hot AS {sql}")
        count = max((int(n) for n in re.findall(r"\$(\d+)", sql)), default=0)
        values = f"({', '.join(['NULL'] * count)})" if count else ""
        plan = json.loads(await connection.fetchval(f"EXPLAIN (FORMAT JSON) EXECUTE hot{values}"))[0]["Plan"]
        await connection.execute("DEALLOCATE hot")
        found |= dict.fromkeys(faults(plan))
    return [f"{fault}\n{sql.strip()}" for fault in found]


async def never_analysed(url: str) -> None:
    """The server counts tables when it has time; what is planned here depends on no such hour."""
    connection = await asyncpg.connect(url)
    try:
        for row in await connection.fetch(
            "SELECT relname FROM pg_class WHERE relkind = 'r' AND relnamespace = 'nestrel'::regnamespace"
        ):
            await connection.execute(f"ALTER TABLE nestrel.{row[0]} SET (autovacuum_enabled = false)")
    finally:
        await connection.close()


# So many rows in each page of every table, as far as the planner knows.
_COUNTED = """
UPDATE pg_class SET reltuples = $1, relpages = 1
WHERE relkind IN ('r', 'i') AND relnamespace = 'nestrel'::regnamespace AND pg_relation_size(oid) > 0
"""


async def everything_kept(url: str) -> dict[str, list[Any]]:
    connection = await asyncpg.connect(url)
    try:
        return {
            table: sorted(str(row[0]) for row in await connection.fetch(f"SELECT t::text FROM nestrel.{table} t"))
            for table in OWNED
        }
    finally:
        await connection.close()


async def test_every_hot_statement_meets_one_partition_and_is_a_look_up(
    heard: set[str], make_database: Callable[[], str]
) -> None:
    """Over tables as they are at first, as they grow, and over those of a store that was partitioned with
    all that was in it."""
    plain, parted = make_database(), make_database()
    for url in (plain, parted):
        await never_analysed(url)
        database = Database(url)
        try:
            await everything_that_is_hot(database)
            if url == parted:
                with pytest.raises(InUse):
                    await partition(url, 4)
        finally:
            await database.close()
    kept = await everything_kept(parted)
    assert sum(bool(kept[table]) for table in OWNED) >= 4, kept.keys()
    assert sorted(await partition(parted, 4)) == sorted(OWNED)
    assert await everything_kept(parted) == kept
    assert await partition(parted, 4) == []
    database = Database(parted)
    try:
        await everything_that_is_hot(database)
        await a_key_that_collides(database)
    finally:
        await database.close()
    once = (epochs._EPOCH_LOCK, epochs._EPOCH_FORGET)  # when the database has become another
    statements = sorted(sql for sql in heard if "nestrel." in sql and sql not in once)
    assert len(statements) > 60
    assert at_once._POST in statements
    empty = make_database()
    await partition(empty, 4)
    connections = [await asyncpg.connect(url, server_settings=SETTINGS) for url in (plain, empty)]
    try:
        found = [fault for sql in statements for fault in await explained(connections, sql)]
        for rows in (20, 1_000_000):
            await connections[0].execute(_COUNTED, rows)
            found += [fault for sql in statements for fault in await explained(connections[:1], sql)]
        # And it does find what is wrong.
        for wrong in (
            "SELECT body FROM nestrel.messages WHERE author_id = $1",
            "SELECT seq FROM nestrel.message_edits WHERE seq = $1 ORDER BY seq",
            "SELECT id FROM nestrel.conversations WHERE title = $1",
        ):
            assert await explained(connections, wrong) != [], wrong
    finally:
        for connection in connections:
            await connection.close()
    assert found == []


async def a_key_that_collides(database: Database) -> None:
    """It is told by the name of the index, which each partition has its own of."""
    writer = Writer(database, followed=lambda _: False)
    place = await make_place(database, odd="owner")
    for n in range(3):
        await writer.submit([Post(place, "odd", "x", key=f"{n}")])
    assert (await writer.submit([Post(place, "odd", "x", key="1")]))[0].object["seq"] == 2


async def test_every_constraint_has_a_meaning(database: Database) -> None:
    async with database.read() as connection:
        named = await fetch(
            connection,
            """
            SELECT conname FROM pg_constraint WHERE connamespace = 'nestrel'::regnamespace AND contype <> 't'
            UNION SELECT c.relname FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
            WHERE i.indisunique AND c.relnamespace = 'nestrel'::regnamespace
            """,
        )
    names = {constraints.whole(row[0]) for row in named} - {"alembic_version_pkc"}
    assert names == constraints.KEPT | constraints.AGAIN | constraints.REFUSED
    assert not any(re.search(r"_check\d*$", name) and name.count("_") < 2 for name in names)  # numbered by PostgreSQL
