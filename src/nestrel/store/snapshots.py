"""Where the whole database stands: the snapshot that an all cursor holds."""

from __future__ import annotations

from nestrel.core.cursors import AllPosition
from nestrel.store.native import Connection, fetch

_NOW = "SELECT CAST(pg_current_snapshot() AS text)"
_SYSTEM = "SELECT system_identifier FROM pg_control_system()"


async def now(connection: Connection) -> AllPosition:
    """Everything committed by now, and nothing that is still under way."""
    [(snapshot,)] = await fetch(connection, _NOW)
    return await at(connection, snapshot)


async def at(connection: Connection, snapshot: str) -> AllPosition:
    """A snapshot of this database, from the text that it was read as."""
    if connection.system is None:  # a connection stays with one server, and to ask for it reads a file
        [(system,)] = await fetch(connection, _SYSTEM)
        connection.system = system & (2**64 - 1)
    return AllPosition.from_snapshot(connection.system, snapshot)


def knows(now: AllPosition, earlier: AllPosition) -> bool:
    """Whether a snapshot was taken from this database and not from a later state that was lost, as after a restore."""
    return earlier.system == now.system and earlier.xmax <= now.xmax
