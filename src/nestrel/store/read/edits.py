"""The earlier bodies of a message."""

from __future__ import annotations

from uuid import UUID

from nestrel.store import rows
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire

_EDIT_PAGE = """
SELECT n, body, format, created_at, edited_at, editor_id FROM nestrel.message_edits
WHERE conversation_id = $1 AND seq = $2 AND n > $3 ORDER BY n LIMIT $4
"""


async def page(
    connection: Connection, conversation_id: UUID, seq: int, limit: int, after: int
) -> tuple[list[Wire], str | None]:
    """Earlier bodies, oldest first, and the key to continue after; None at the end."""
    found = await fetch(connection, _EDIT_PAGE, conversation_id, seq, after, limit + 1)
    items: list[Wire] = [
        {
            "n": n,
            "body": body,
            "format": format_,
            "created_at": rows.wire_time(created_at),
            "edited_at": rows.wire_time(edited_at),
            "edited_by": editor_id,
        }
        for n, body, format_, created_at, edited_at, editor_id in found[:limit]
    ]
    return items, str(items[-1]["n"]) if len(found) > limit else None
