"""Who has reacted to a message, with what and when."""

from __future__ import annotations

from uuid import UUID

from nestrel.store import rows
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire

_REACTION_PAGE = """
SELECT symbol, user_id, created_at FROM nestrel.reactions
WHERE conversation_id = $1 AND seq = $2 AND (symbol, user_id) > ($3, $4)
  AND (CAST($5 AS text) IS NULL OR symbol = $5)
ORDER BY symbol, user_id LIMIT $6
"""


async def page(
    connection: Connection, conversation_id: UUID, seq: int, limit: int, after: tuple[str, str], only: str | None
) -> tuple[list[Wire], tuple[str, str] | None]:
    """Reactions by symbol and user id, and the pair to continue after; None at the end. `only` asks for one symbol."""
    found = await fetch(connection, _REACTION_PAGE, conversation_id, seq, *after, only, limit + 1)
    items: list[Wire] = [
        {"symbol": symbol, "user_id": user_id, "reacted_at": rows.wire_time(at)}
        for symbol, user_id, at in found[:limit]
    ]
    return items, (items[-1]["symbol"], items[-1]["user_id"]) if len(found) > limit else None
