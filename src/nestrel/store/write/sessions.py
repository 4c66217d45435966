"""Browser sessions are sealed, and kept nowhere; only those that were ended before their time are."""

from __future__ import annotations

from datetime import UTC, datetime

from nestrel.store.database import Database
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.write import subscriptions

_SESSION_END = """
INSERT INTO nestrel.ended_sessions (id, expires_at) VALUES ($1, $2) ON CONFLICT DO NOTHING
"""
_SESSION_ENDED = "SELECT 1 FROM nestrel.ended_sessions WHERE id = $1"
_SINCE = "SELECT id FROM nestrel.ended_sessions WHERE ended_at >= $1"
_SESSION_FORGET = "DELETE FROM nestrel.ended_sessions WHERE expires_at < clock_timestamp()"


async def end(database: Database, user_id: str, id_: bytes, expires_at: float) -> None:
    """End a session, for every process; its browser is told nothing more."""
    async with database.write() as connection:
        await subscriptions.end_session(connection, user_id, id_)
        await execute(connection, _SESSION_END, id_, datetime.fromtimestamp(expires_at, UTC))


async def ended(connection: Connection, id_: bytes) -> bool:
    """Whether a session was ended."""
    return bool(await fetch(connection, _SESSION_ENDED, id_))


async def since(connection: Connection, moment: datetime) -> set[bytes]:
    """The sessions that were ended since then."""
    return {bytes(row[0]) for row in await fetch(connection, _SINCE, moment)}


async def forget(connection: Connection) -> None:
    """Forget those that would be over by now."""
    await execute(connection, _SESSION_FORGET)
