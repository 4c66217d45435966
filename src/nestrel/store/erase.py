"""Erase what closed conversations held, in bounded steps, by as many processes as like."""

from __future__ import annotations

from sqlalchemy import text

from nestrel.store.database import Database

_STEP = 2_000

_NEXT = text(
    "SELECT id FROM conversations WHERE closed_at IS NOT NULL AND NOT erased ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED"
)
_DELETE = text(
    """
    WITH gone AS (SELECT seq FROM messages WHERE conversation_id = :id ORDER BY seq LIMIT :step),
    earlier AS (DELETE FROM message_edits WHERE conversation_id = :id AND seq IN (SELECT seq FROM gone)),
    counts AS (DELETE FROM reaction_counts WHERE conversation_id = :id AND seq IN (SELECT seq FROM gone)),
    marks AS (DELETE FROM reactions WHERE conversation_id = :id AND seq IN (SELECT seq FROM gone))
    DELETE FROM messages WHERE conversation_id = :id AND seq IN (SELECT seq FROM gone)
    """
)
# Counters and member rows stay: they tell whoever was away that the conversation has gone.
_EMPTY = text(
    """
    UPDATE conversations SET erased = true, title = '', name = NULL, name_key = NULL, attributes = NULL,
           message_count = 0, floor = head + 1
    WHERE id = :id
    """
)


async def step(database: Database) -> bool:
    """Erase up to 2,000 messages of one closed conversation; False when there is nothing left to erase."""
    async with database.write() as connection:
        conversation_id = (await connection.execute(_NEXT)).scalar()
        if conversation_id is None:
            return False
        gone = await connection.execute(_DELETE, {"id": conversation_id, "step": _STEP})
        if gone.rowcount < _STEP:
            await connection.execute(_EMPTY, {"id": conversation_id})
    return True
