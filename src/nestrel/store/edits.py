"""The earlier bodies of a message."""

from __future__ import annotations

from uuid import UUID

from sqlalchemy import text

from nestrel.store import rows
from nestrel.store.native import Connection
from nestrel.store.rows import Wire

_PAGE = text(
    """
    SELECT n, body, format, created_at, edited_at, editor_id FROM nestrel.message_edits
    WHERE conversation_id = :id AND seq = :seq AND n > :after ORDER BY n LIMIT :limit
    """
)


async def page(
    connection: Connection, conversation_id: UUID, seq: int, limit: int, after: int
) -> tuple[list[Wire], str | None]:
    """Earlier bodies, oldest first, and the key to continue after; None at the end."""
    values = {"id": conversation_id, "seq": seq, "after": after, "limit": limit + 1}
    found = (await connection.execute(_PAGE, values)).all()
    items: list[Wire] = [
        {
            "n": row.n,
            "body": row.body,
            "format": row.format,
            "created_at": rows.wire_time(row.created_at),
            "edited_at": rows.wire_time(row.edited_at),
            "edited_by": row.editor_id,
        }
        for row in found[:limit]
    ]
    return items, str(items[-1]["n"]) if len(found) > limit else None
