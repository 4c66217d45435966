"""Erase what closed conversations held, in bounded steps, by as many processes as like."""

from __future__ import annotations

from sqlalchemy import text

from nestrel.store.database import Database

_STEP = 2_000

_NEXT = text(
    "SELECT id FROM nestrel.conversations WHERE closed_at IS NOT NULL AND NOT erased ORDER BY id LIMIT 1 "
    "FOR UPDATE SKIP LOCKED"
)
_DELETE = text(
    """
    WITH gone AS (SELECT seq FROM nestrel.messages WHERE conversation_id = :id ORDER BY seq LIMIT :step),
    earlier AS (DELETE FROM nestrel.message_edits WHERE conversation_id = :id AND seq IN (SELECT seq FROM gone)),
    counts AS (DELETE FROM nestrel.reaction_counts WHERE conversation_id = :id AND seq IN (SELECT seq FROM gone)),
    marks AS (DELETE FROM nestrel.reactions WHERE conversation_id = :id AND seq IN (SELECT seq FROM gone))
    DELETE FROM nestrel.messages WHERE conversation_id = :id AND seq IN (SELECT seq FROM gone)
    """
)
# A sweep that is at one of them has its row of the backlog: waiting for that, it is over, and none begins. By itself,
# for the end of a sweep's step waits for the conversation in turn.
_DELETE_BACKLOG = text(
    """
    DELETE FROM nestrel.expired_backlog WHERE conversation_id IN (
        SELECT id FROM nestrel.conversations WHERE closed_at IS NOT NULL AND NOT erased)
    """
)
_DELETE_ARCHIVE = text(
    """
    WITH part AS (SELECT segment FROM nestrel.archive_segments WHERE conversation_id = :id LIMIT 100),
    authors AS (DELETE FROM nestrel.archive_authors WHERE conversation_id = :id AND segment IN (SELECT segment FROM
    part))
    DELETE FROM nestrel.archive_segments WHERE conversation_id = :id AND segment IN (SELECT segment FROM part)
    """
)
_DELETE_KEYS = text(
    """
    DELETE FROM nestrel.expired_keys WHERE conversation_id = :id
       AND key_hash IN (SELECT key_hash FROM nestrel.expired_keys WHERE conversation_id = :id LIMIT :step)
    """
)
_DELETE_REST = [
    text(f"DELETE FROM nestrel.{table} WHERE conversation_id = :id") for table in ("expiry_due", "discarded_runs")
]
# Counters and member rows stay: they tell whoever was away that the conversation has gone.
_EMPTY = text(
    """
    UPDATE nestrel.conversations SET erased = true, title = '', name = NULL, name_key = NULL, attributes = NULL,
           message_count = 0, kept_bytes = 0, floor = head + 1, swept = head + 1
    WHERE id = :id
    """
)


async def step(database: Database) -> bool:
    """Erase up to 2,000 messages, and some of the archive, of one closed conversation; False when there is nothing
    left to erase."""
    async with database.write() as connection:
        await connection.execute(_DELETE_BACKLOG)
    async with database.write() as connection:
        conversation_id = (await connection.execute(_NEXT)).scalar()
        if conversation_id is None:
            return False
        values = {"id": conversation_id, "step": _STEP}
        messages = await connection.execute(_DELETE, values)
        keys = await connection.execute(_DELETE_KEYS, values)
        segments = await connection.execute(_DELETE_ARCHIVE, values)
        if messages.rowcount < _STEP and keys.rowcount < _STEP and segments.rowcount == 0:
            for statement in _DELETE_REST:
                await connection.execute(statement, values)
            await connection.execute(_EMPTY, values)
    return True
