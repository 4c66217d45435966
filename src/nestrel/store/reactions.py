"""Who has reacted to a message, with what and when."""

from __future__ import annotations

from uuid import UUID

from sqlalchemy import text

from nestrel.store import rows
from nestrel.store.native import Connection
from nestrel.store.rows import Wire

_PAGE = text(
    """
    SELECT symbol, user_id, created_at FROM nestrel.reactions
    WHERE conversation_id = :id AND seq = :seq AND (symbol, user_id) > (:symbol, :user_id)
      AND (CAST(:only AS text) IS NULL OR symbol = :only)
    ORDER BY symbol, user_id LIMIT :limit
    """
)


async def page(
    connection: Connection, conversation_id: UUID, seq: int, limit: int, after: tuple[str, str], only: str | None
) -> tuple[list[Wire], tuple[str, str] | None]:
    """Reactions by symbol and user id, and the pair to continue after; None at the end. `only` asks for one symbol."""
    values = {"id": conversation_id, "seq": seq, "symbol": after[0], "user_id": after[1], "only": only}
    found = (await connection.execute(_PAGE, {**values, "limit": limit + 1})).all()
    items: list[Wire] = [
        {"symbol": row.symbol, "user_id": row.user_id, "reacted_at": rows.wire_time(row.created_at)}
        for row in found[:limit]
    ]
    return items, (items[-1]["symbol"], items[-1]["user_id"]) if len(found) > limit else None
