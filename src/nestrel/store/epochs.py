"""The epochs of a database: which history it has, and how that is told from another.

A statement tells the present epoch by `CURRENT`: the newest one recorded, if it was recorded on the timeline and in
the very table that answers now. A promotion begins a new timeline, and a table that was loaded from a dump is another
table; then `CURRENT` is null, and whoever meets that records a new epoch (`begin`). What a connection cannot
change under it, the cluster and the database, is looked at once for each. A copy of files that was put back says
nothing of itself: `nestrel db restored` marks it, unless a cursor from later than now gives it away.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import Any

from nestrel.core.cursors import AllPosition, ChangePosition
from nestrel.core.epochs import BEGINS_KEPT, Begun, Epoch, Lineage
from nestrel.store.histories import NewEpoch
from nestrel.store.native import Connection, execute, fetch

CURRENT = """(SELECT CASE WHEN e.made_in = e.tableoid AND e.timeline =
left(pg_walfile_name(pg_current_wal_insert_lsn()), 8)
    THEN e.id END FROM nestrel.epochs e ORDER BY e.n DESC LIMIT 1)"""
"""SQL for the present epoch's id; null where it is not recorded yet."""

POSITION = "CAST(pg_current_wal_insert_lsn() - '0/0' AS bigint)"


def stamp(conversation: str) -> str:
    """SQL for the SET of whatever moves a conversation's `rev`: its row carries the present epoch, and where it stood
    when that began. The argument is the name of the row that is updated."""
    c = conversation
    return f"""
    epochs = CASE WHEN {c}.epochs[1] = {CURRENT} THEN {c}.epochs ELSE ({CURRENT} || {c}.epochs)[1:{BEGINS_KEPT}] END,
    begins = CASE WHEN {c}.epochs[1] = {CURRENT} THEN {c}.begins ELSE ({c}.rev || {c}.begins)[1:{BEGINS_KEPT}] END"""


_RECORDED = "SELECT id, branch FROM nestrel.epochs ORDER BY n"
_NEWEST = f"""
SELECT e.n, e.id, e.system, e.database_id, e.timeline, e.made_in = e.tableoid, {CURRENT} FROM nestrel.epochs e
ORDER BY e.n DESC LIMIT 1
"""
_EPOCH_NOW = """
SELECT system_identifier, (SELECT oid FROM pg_database WHERE datname = current_database())::bigint,
       left(pg_walfile_name(pg_current_wal_insert_lsn()), 8), pg_last_wal_replay_lsn() - '0/0',
       has_function_privilege('pg_read_file(text, bigint, bigint, boolean)', 'execute')
FROM pg_control_system()
"""
_SITE = """
SELECT system_identifier, (SELECT oid FROM pg_database WHERE datname = current_database())::bigint,
       to_regclass('nestrel.epochs') IS NOT NULL
FROM pg_control_system()
"""
_EPOCH_LOCK = "LOCK TABLE nestrel.epochs IN SHARE ROW EXCLUSIVE MODE"
_EPOCH_RECORD = """
INSERT INTO nestrel.epochs (id, branch, system, database_id, timeline, made_in)
VALUES ($1, $2, $3, $4, $5, 'nestrel.epochs'::regclass)
"""
# What the journal says may be of the history that is lost.
_EPOCH_FORGET = """
WITH gone AS (DELETE FROM nestrel.journal)
UPDATE nestrel.journal_trimmed
SET xid = CAST(CAST(CAST(CAST(pg_snapshot_xmax(pg_current_snapshot()) AS text) AS bigint) - 1 AS text) AS xid8)
"""
_FILE = "SELECT pg_read_file('pg_wal/' || $1 || '.history', 0, 65536, true)"


def new_id() -> int:
    """A random id: a history that is lost and one that takes its place never have the same."""
    return int.from_bytes(os.urandom(8)) >> 1


async def met(connection: Connection) -> None:
    """Look at a connection that has just been made."""
    [(system, database_id, there)] = await fetch(connection, _SITE)
    if not there or connection.history.site == (system, database_id):
        return
    await begin(connection)


async def begin(connection: Connection, *, set_back: int | None = None) -> bool:
    """Record a new epoch if the present one is not the newest recorded, and learn all of them. `set_back` is the
    epoch that has been proved to be another's, or that an operator says is: it ends whatever it looks like.
    Whether one was recorded."""
    async with connection.transaction():
        await execute(connection, _EPOCH_LOCK)
        system, database_id, timeline, replayed, may_read = (await fetch(connection, _EPOCH_NOW))[0]
        newest = (await fetch(connection, _NEWEST) or [None])[0]
        same = newest is not None and newest[2:5] == (_signed(system), database_id, timeline) and newest[5]
        recorded = not same or set_back == newest[1] or _lost(connection, newest[1], (system, database_id))
        if recorded:
            branch = None
            if newest is not None and newest[2:4] == (_signed(system), database_id) and newest[5] and not same:
                branch = await _branch(connection, newest[4], timeline, replayed, may_read)
            await execute(connection, _EPOCH_RECORD, new_id(), branch, _signed(system), database_id, timeline)
            await execute(connection, _EPOCH_FORGET)
        found = await fetch(connection, _RECORDED)
    connection.history.learn(Lineage([Epoch(*row) for row in found]), (system, database_id))
    return recorded


async def present(connection: Connection) -> int:
    """The present epoch. Raises `NewEpoch` where this process does not know it."""
    return connection.history.check((await fetch(connection, f"SELECT {CURRENT}"))[0][0])


def _lost(connection: Connection, newest: int, site: tuple[int, int]) -> bool:
    """Whether this process has met a later epoch of this database than the newest that is recorded: then it is an
    earlier state, and that epoch is lost, whoever has brought it back. The first process that meets it records the next
    one, which is new to all others."""
    known = connection.history.lineage
    return known is not None and connection.history.site == site and newest in known and newest != known.present


def _signed(system: int) -> int:
    """A cluster's identifier as a bigint, as PostgreSQL itself gives it."""
    return system - 2**64 if system >= 2**63 else system


async def _branch(connection: Connection, before: str, timeline: str, replayed: Any, may_read: bool) -> int | None:
    """The position at which the present timeline left an earlier one; None where that cannot be told. The timeline's
    own history file says so. Who may not read it goes by how far this server had replayed when it was promoted, which
    it knows until it is started anew, and only for one promotion."""
    if may_read:
        text = (await fetch(connection, _FILE, timeline))[0][0]
        return switch_point(text or "", int(before, 16))
    if int(timeline, 16) != int(before, 16) + 1 or replayed is None:
        return None
    return int(replayed)


def switch_point(history: str, timeline: int) -> int | None:
    """Where a timeline ended, from the history file of one that came of it (`timeline<TAB>X/Y<TAB>reason`)."""
    for line in history.splitlines():
        parts = line.split()
        if len(parts) >= 2 and parts[0].isdigit() and int(parts[0]) == timeline:
            high, _, low = parts[1].partition("/")
            return (int(high, 16) << 32) + int(low, 16)
    return None


def holds(connection: Connection, at: ChangePosition, epochs: Sequence[int], begins: Sequence[int], rev: int) -> bool:
    """`Lineage.holds` for a conversation's row."""
    return connection.history.known.holds(at, Begun(epochs, begins, rev))


def goes_on(connection: Connection, at: AllPosition, now: AllPosition) -> bool:
    """`Lineage.goes_on`. Raises `NewEpoch` when the cursor proves that the database was set back unsaid."""
    lineage = connection.history.known
    if lineage.set_back(at, now):
        raise NewEpoch(set_back=now.epoch)
    return lineage.goes_on(at, now)
