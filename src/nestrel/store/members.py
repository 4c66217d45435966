"""Members: list, join or add, change role, leave or remove. Every change is made under the conversation's lock."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from uuid import UUID

from sqlalchemy import text

from nestrel.core.roles import Role
from nestrel.store import epochs, rows
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import MEMBER_COLUMNS, Wire

_PAGE = text(
    f"""
    SELECT {MEMBER_COLUMNS} FROM nestrel.members
    WHERE conversation_id = :id AND left_at IS NULL AND user_id > :after ORDER BY user_id LIMIT :limit
    """
)
_ONE = text(
    f"SELECT {MEMBER_COLUMNS} FROM nestrel.members "
    "WHERE conversation_id = :id AND user_id = :user_id AND left_at IS NULL"
)
_CENSUS = text(
    """
    SELECT (SELECT role FROM nestrel.members WHERE conversation_id = :id AND user_id = :user_id AND left_at IS NULL)
    AS role,
           (SELECT count(*) FROM (SELECT 1 FROM nestrel.members WHERE conversation_id = :id AND role = 'owner'
               AND left_at IS NULL LIMIT 2) o) AS owners,
           c.member_count AS members
    FROM nestrel.conversations c WHERE c.id = :id
    """
)
# Who comes back after leaving keeps the receipt of before, for a receipt only grows.
_PUT = text(
    f"""
    WITH moved AS (
        UPDATE nestrel.conversations SET rev = rev + 1, member_count = member_count + :added,
               moved_xid = pg_current_xact_id(), {epochs.stamp("conversations")}
        WHERE id = :id RETURNING rev
    )
    INSERT INTO nestrel.members AS m (conversation_id, user_id, role, joined_at, rev)
    SELECT :id, :user_id, :role, clock_timestamp(), rev FROM moved
    ON CONFLICT (conversation_id, user_id) DO UPDATE
    SET role = excluded.role, rev = excluded.rev, moved_xid = pg_current_xact_id(), left_at = NULL,
        left_reason = NULL, joined_at = CASE WHEN m.left_at IS NULL THEN m.joined_at ELSE excluded.joined_at END,
        joined_xid = CASE WHEN m.left_at IS NULL THEN m.joined_xid ELSE pg_current_xact_id() END
    RETURNING rev
    """
)
_LEAVE = text(
    f"""
    WITH moved AS (
        UPDATE nestrel.conversations SET rev = rev + 1, member_count = member_count - 1, moved_xid =
        pg_current_xact_id(),
               {epochs.stamp("conversations")}
        WHERE id = :id RETURNING rev
    )
    UPDATE nestrel.members SET left_at = clock_timestamp(), left_reason = :reason, rev = moved.rev,
           moved_xid = pg_current_xact_id()
    FROM moved WHERE conversation_id = :id AND user_id = :user_id AND left_at IS NULL
    RETURNING members.rev
    """
)


_WHY_GONE = """
SELECT c.closed_at IS NULL, m.left_reason FROM nestrel.conversations c
LEFT JOIN nestrel.members m ON m.conversation_id = c.id AND m.user_id = $2 WHERE c.id = $1
"""
_DEPARTED = """
SELECT user_id, left_reason FROM nestrel.members
WHERE conversation_id = $1 AND user_id = ANY($2::text[]) AND left_at IS NOT NULL
"""


@dataclass(frozen=True, slots=True)
class Census:
    """What a decision on a member needs: the member's role, whether owners are more than one, and all members."""

    role: Role | None
    owners: int
    members: int


async def page(connection: Connection, conversation_id: UUID, limit: int, after: str) -> tuple[list[Wire], str | None]:
    """Members by user id, and the id to continue after; None at the end."""
    found = (await connection.execute(_PAGE, {"id": conversation_id, "after": after, "limit": limit + 1})).all()
    items = [rows.member(row) for row in found[:limit]]
    return items, items[-1]["user_id"] if len(found) > limit else None


async def show(connection: Connection, conversation_id: UUID, user_id: str) -> Wire | None:
    row = (await connection.execute(_ONE, {"id": conversation_id, "user_id": user_id})).first()
    return rows.member(row) if row is not None else None


async def departed(connection: Connection, conversation_id: UUID, user_ids: Sequence[str]) -> dict[str, str]:
    """Those of the users whose membership has ended, each with the reason (`left` or `removed`)."""
    found = await fetch(connection, _DEPARTED, conversation_id, user_ids)
    return {row[0]: row[1] for row in found}


async def why_gone(connection: Connection, conversation_id: UUID, user_id: str) -> str:
    """Why someone who followed a conversation may not do so now: they `left`, were `removed`, or it is `closed`. Who
    was a member only in a history that is lost was removed by that, and what was made there is closed."""
    found = await fetch(connection, _WHY_GONE, conversation_id, user_id)
    if not found or not found[0][0]:
        return "closed"
    return found[0][1] or "removed"


async def census(connection: Connection, conversation_id: UUID, user_id: str) -> Census:
    row = (await connection.execute(_CENSUS, {"id": conversation_id, "user_id": user_id})).one()
    return Census(Role(row.role) if row.role else None, row.owners, row.members)


async def put(
    database: Database,
    connection: Connection,
    conversation_id: UUID,
    user_id: str,
    role: Role,
    *,
    new: bool,
) -> None:
    """Make a member or change a role; the caller holds the conversation's lock and has decided."""
    values = {"id": conversation_id, "user_id": user_id, "role": role.value, "added": int(new)}
    rev = (await connection.execute(_PUT, values)).scalar_one()
    await database.announce(connection, [Moved(conversation_id, rev, (user_id,) if new else ())])


async def leave(
    database: Database, connection: Connection, conversation_id: UUID, user_id: str, *, reason: str
) -> None:
    """End a membership; the row stays, so that whoever was away learns of it. `reason` is `left` or `removed`."""
    values = {"id": conversation_id, "user_id": user_id, "reason": reason}
    rev = (await connection.execute(_LEAVE, values)).scalar_one()
    await database.announce(connection, [Moved(conversation_id, rev)])
