"""Where the whole database stands: the snapshot that an all cursor holds."""

from __future__ import annotations

from nestrel.core.cursors import AllPosition
from nestrel.store.native import Connection, fetch

_NOW = "SELECT (SELECT system_identifier FROM pg_control_system()), CAST(pg_current_snapshot() AS text)"


async def now(connection: Connection) -> AllPosition:
    """Everything committed by now, and nothing that is still under way."""
    [(system, snapshot)] = await fetch(connection, _NOW)
    return AllPosition.from_snapshot(system & (2**64 - 1), snapshot)
