"""Keeping someone out, and letting them in again, under the conversation's lock."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from nestrel.core import limits
from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.keeping_out import KeptOut, check_kind, check_target
from nestrel.core.problems import OverQuota
from nestrel.core.rights import Action
from nestrel.core.times import format_time
from nestrel.store import fragments
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.write import audit, members

COLUMNS = "user_id, until, reason, kept_out_by, kept_out_at"

_KEEPING_OUT_FIND = f"""
SELECT {COLUMNS} FROM nestrel.kept_out
WHERE conversation_id = $1 AND user_id = $2 AND {fragments.STILL_KEPT_OUT}
"""
_KEEPING_OUT_PUT = f"""
INSERT INTO nestrel.kept_out AS k (conversation_id, user_id, until, reason, kept_out_by)
SELECT $1, $2, $3, $4, $5 WHERE (SELECT count(*) FROM nestrel.kept_out WHERE conversation_id = $1) < {limits.KEPT_OUT}
    OR EXISTS (SELECT FROM nestrel.kept_out WHERE conversation_id = $1 AND user_id = $2)
ON CONFLICT (conversation_id, user_id) DO UPDATE
SET until = excluded.until, reason = excluded.reason, kept_out_by = excluded.kept_out_by,
    kept_out_at = clock_timestamp()
RETURNING {COLUMNS}
"""
_KEEPING_OUT_MAKE_ROOM = "DELETE FROM nestrel.kept_out WHERE conversation_id = $1 AND until <= clock_timestamp()"
_KEEPING_OUT_DELETE = "DELETE FROM nestrel.kept_out WHERE conversation_id = $1 AND user_id = $2 RETURNING until"
_KEEPING_OUT_PAGE = f"""
SELECT {COLUMNS} FROM nestrel.kept_out
WHERE conversation_id = $1 AND user_id > $2 AND {fragments.STILL_KEPT_OUT}
ORDER BY user_id LIMIT $3
"""


async def put(
    database: Database, caller: Caller, conversation_id: UUID, user_id: str, until: datetime | None, reason: str | None
) -> tuple[KeptOut, bool]:
    """Keep someone out, a member too; whether they were not before.

    Raises:
        NotFound, Forbidden, InvalidRequest: as `nestrel.core.keeping_out` decides.
        OverQuota: the conversation keeps out as many as it may.
    """
    async with database.write() as connection:
        standing = (await see(connection, conversation_id, caller, Action.KEEP_OUT, lock=True)).standing
        check_kind(standing)
        known = await members.census(connection, conversation_id, user_id)
        check_target(standing, known.role, known.owners, known.members, own=user_id == caller.user_id)
        before = await find(connection, conversation_id, user_id)
        await execute(connection, _KEEPING_OUT_MAKE_ROOM, conversation_id)
        found = await fetch(connection, _KEEPING_OUT_PUT, conversation_id, user_id, until, reason, caller.user_id)
        if not found:
            raise OverQuota(
                f"a conversation keeps at most {limits.KEPT_OUT:,} people out",
                extra={"quota": "kept_out", "limit": limits.KEPT_OUT},
            )
        if known.role is not None:
            await members.remove(database, connection, conversation_id, user_id, "removed")
        await audit.record(
            connection, caller, Act.KEPT_OUT, conversation_id=conversation_id, user_id=user_id,
            before={"role": known.role}, after={"until": None if until is None else format_time(until)}, reason=reason,
        )  # fmt: skip
    return KeptOut(*found[0]), before is None


async def let_in(database: Database, caller: Caller, conversation_id: UUID, user_id: str) -> None:
    """Keep someone out no longer; they can join, or be added, as anyone.

    Raises:
        NotFound, Forbidden, InvalidRequest: as `put`.
    """
    async with database.write() as connection:
        check_kind((await see(connection, conversation_id, caller, Action.KEEP_OUT, lock=True)).standing)
        if await fetch(connection, _KEEPING_OUT_DELETE, conversation_id, user_id):
            await audit.record(connection, caller, Act.LET_IN, conversation_id=conversation_id, user_id=user_id)


async def find(connection: Connection, conversation_id: UUID, user_id: str) -> KeptOut | None:
    """How someone is kept out, if they are."""
    found = await fetch(connection, _KEEPING_OUT_FIND, conversation_id, user_id)
    return KeptOut(*found[0]) if found else None


async def page(
    connection: Connection, conversation_id: UUID, limit: int, after: str
) -> tuple[list[KeptOut], str | None]:
    """Who is kept out, by user id, and the id to continue after; None at the end."""
    found = [KeptOut(*row) for row in await fetch(connection, _KEEPING_OUT_PAGE, conversation_id, after, limit + 1)]
    return found[:limit], found[limit - 1].user_id if len(found) > limit else None
