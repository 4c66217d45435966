"""Where the whole database stands: the snapshot that an all cursor holds."""

from __future__ import annotations

from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncConnection

from nestrel.core.cursors import AllPosition

_NOW = text("SELECT (SELECT system_identifier FROM pg_control_system()), CAST(pg_current_snapshot() AS text)")


async def now(connection: AsyncConnection) -> AllPosition:
    """Everything committed by now, and nothing that is still under way."""
    row = (await connection.execute(_NOW)).one()
    return AllPosition.from_snapshot(row[0] & (2**64 - 1), row[1])
