"""Where the whole database stands: the snapshot that an all cursor holds."""

from __future__ import annotations

from nestrel.core.cursors import AllPosition
from nestrel.store import epochs
from nestrel.store.native import Connection, fetch

COLUMNS = f"{epochs.CURRENT}, {epochs.POSITION}, CAST(pg_current_snapshot() AS text)"
"""SQL for a snapshot. The position of the log is read in the statement that has the snapshot, and so behind it."""


async def now(connection: Connection) -> AllPosition:
    """Everything committed by now, and nothing that is still under way."""
    return at(connection, *(await fetch(connection, f"SELECT {COLUMNS}"))[0])


def at(connection: Connection, epoch: int | None, lsn: int, snapshot: str) -> AllPosition:
    """A snapshot of this database, from `COLUMNS`."""
    return AllPosition.from_snapshot(connection.history.check(epoch), lsn, snapshot)
