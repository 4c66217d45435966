"""A browser's session is sealed and not stored. Only sessions that were ended before their time are."""

from __future__ import annotations

from datetime import UTC, datetime

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import insert

from nestrel.store.composed import Change, Query
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.tables.base import NOW
from nestrel.store.tables.people import ended_sessions
from nestrel.store.write import subscriptions

_ID = ended_sessions.c.id
_END = insert(ended_sessions).values(id=sa.bindparam("id"), expires_at=sa.bindparam("expires_at"))

SESSION_END = Change(_END.on_conflict_do_nothing())
SESSION_ENDED = Query(sa.select(_ID).where(ended_sessions.c.id == sa.bindparam("id")), bytes)
SESSIONS_SINCE = Query(sa.select(_ID).where(ended_sessions.c.ended_at >= sa.bindparam("moment")), bytes)
SESSION_FORGET = Change(sa.delete(ended_sessions).where(ended_sessions.c.expires_at < NOW))


async def end(database: Database, user_id: str, id_: bytes, expires_at: float) -> None:
    """End a session, for every process; its browser is told nothing more."""
    async with database.write() as connection:
        await subscriptions.end_session(connection, user_id, id_)
        await SESSION_END.run(connection, id=id_, expires_at=datetime.fromtimestamp(expires_at, UTC))


async def ended(connection: Connection, id_: bytes) -> bool:
    """Whether a session was ended."""
    return bool(await SESSION_ENDED.fetch(connection, id=id_))


async def since(connection: Connection, moment: datetime) -> set[bytes]:
    """The sessions that were ended since then."""
    return set(await SESSIONS_SINCE.fetch(connection, moment=moment))


async def forget(connection: Connection) -> None:
    """Forget those that would be over by now."""
    await SESSION_FORGET.run(connection)
