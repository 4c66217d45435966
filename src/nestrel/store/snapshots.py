"""Snapshots of the database: the position in an all cursor."""

from __future__ import annotations

from collections.abc import Collection

from nestrel.core.cursors import AllPosition
from nestrel.store import epochs
from nestrel.store.native import Connection, fetch

COLUMNS = f"{epochs.CURRENT}, {epochs.POSITION}, CAST(pg_current_snapshot() AS text)"
"""SQL for a snapshot. The position of the log is read in the statement that has the snapshot, and so behind it."""

# A running transaction holds a lock on its own number, which everyone may see, as everyone may see the database and
# the role of a session.
_OTHERS = """
SELECT CAST(CAST(l.transactionid AS text) AS bigint) FROM pg_locks l JOIN pg_stat_activity a ON a.pid = l.pid
WHERE l.locktype = 'transactionid' AND l.mode = 'ExclusiveLock' AND l.granted
  AND l.transactionid = ANY($1::text[]::xid[])
  AND (a.datname <> current_database() OR NOT has_table_privilege(a.usesysid, 'nestrel.conversations', 'UPDATE'))
"""
_XIDS = 2**32


async def now(connection: Connection) -> AllPosition:
    """Everything committed by now, and nothing that is still under way."""
    return at(connection, *(await fetch(connection, f"SELECT {COLUMNS}"))[0])


def at(connection: Connection, epoch: int | None, lsn: int, snapshot: str) -> AllPosition:
    """A snapshot of this database, from `COLUMNS`; without the transactions that are known to be others'."""
    history = connection.history
    found = AllPosition.from_snapshot(history.check(epoch), lsn, snapshot)
    if history.foreign:
        history.foreign = frozenset(one for one in history.foreign if one >= found.xmin)
        return found.without(history.foreign)
    return found


async def tell_apart(connection: Connection, running: Collection[int]) -> None:
    """Find out which of some transactions, running for a while, move nothing of this service's: those of another
    database of the cluster, and of a role that may not. A cursor holds a number of running transactions and no more:
    with too many, it would repeat all that came since the first of them began."""
    asked = {one % _XIDS: one for one in running}
    found = await fetch(connection, _OTHERS, [str(one) for one in asked])
    connection.history.foreign |= {asked[row[0]] for row in found}
