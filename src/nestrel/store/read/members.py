"""Members: lists of them, one of them, and former members."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from nestrel.store import rows
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import MEMBER_COLUMNS, Wire

_MEMBER_PAGE = f"""
SELECT {MEMBER_COLUMNS} FROM nestrel.members
WHERE conversation_id = $1 AND left_at IS NULL AND user_id > $2 ORDER BY user_id LIMIT $3
"""
_MEMBER_ONE = f"""
SELECT {MEMBER_COLUMNS} FROM nestrel.members WHERE conversation_id = $1 AND user_id = $2 AND left_at IS NULL
"""
_WHY_GONE = """
SELECT c.closed_at IS NULL, m.left_reason FROM nestrel.conversations c
LEFT JOIN nestrel.members m ON m.conversation_id = c.id AND m.user_id = $2 WHERE c.id = $1
"""
_DEPARTED = """
SELECT user_id, left_reason FROM nestrel.members
WHERE conversation_id = $1 AND user_id = ANY($2::text[]) AND left_at IS NOT NULL
"""


async def page(connection: Connection, conversation_id: UUID, limit: int, after: str) -> tuple[list[Wire], str | None]:
    """Members by user id, and the id to continue after; None at the end."""
    found = await fetch(connection, _MEMBER_PAGE, conversation_id, after, limit + 1)
    items = [rows.member(row) for row in found[:limit]]
    return items, items[-1]["user_id"] if len(found) > limit else None


async def show(connection: Connection, conversation_id: UUID, user_id: str) -> Wire | None:
    found = await fetch(connection, _MEMBER_ONE, conversation_id, user_id)
    return rows.member(found[0]) if found else None


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
