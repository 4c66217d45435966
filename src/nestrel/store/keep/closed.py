"""Erases what closed conversations held, in bounded steps. Any number of processes may do this at once."""

from __future__ import annotations

from nestrel.store.database import Database
from nestrel.store.native import execute, fetch

_STEP = 2_000

_CLOSED_NEXT = """
SELECT id FROM nestrel.conversations WHERE closed_at IS NOT NULL AND NOT erased ORDER BY id LIMIT 1
FOR UPDATE SKIP LOCKED
"""
_CLOSED_DELETE = """
WITH gone AS (SELECT seq FROM nestrel.messages WHERE conversation_id = $1 ORDER BY seq LIMIT $2),
earlier AS (DELETE FROM nestrel.message_edits WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone)),
counts AS (DELETE FROM nestrel.reaction_counts WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone)),
marks AS (DELETE FROM nestrel.reactions WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone)),
named AS (DELETE FROM nestrel.mentions WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone))
DELETE FROM nestrel.messages WHERE conversation_id = $1 AND seq IN (SELECT seq FROM gone) RETURNING 1
"""
# A sweep that is at one of them has its row of the backlog: waiting for that, it is over, and none begins. By itself,
# for the end of a sweep's step waits for the conversation in turn.
_DELETE_BACKLOG = """
DELETE FROM nestrel.expired_backlog WHERE conversation_id IN (
    SELECT id FROM nestrel.conversations WHERE closed_at IS NOT NULL AND NOT erased)
"""
_DELETE_ARCHIVE = """
WITH part AS (SELECT segment FROM nestrel.archive_segments WHERE conversation_id = $1 LIMIT 100),
authors AS (DELETE FROM nestrel.archive_authors WHERE conversation_id = $1 AND segment IN (SELECT segment FROM
part))
DELETE FROM nestrel.archive_segments WHERE conversation_id = $1 AND segment IN (SELECT segment FROM part) RETURNING 1
"""
_DELETE_KEYS = """
DELETE FROM nestrel.expired_keys WHERE conversation_id = $1
   AND key_hash IN (SELECT key_hash FROM nestrel.expired_keys WHERE conversation_id = $1 LIMIT $2) RETURNING 1
"""
_DELETE_REST = [
    f"DELETE FROM nestrel.{table} WHERE conversation_id = $1"
    for table in (
        "expiry_due",
        "discarded_runs",
        "attached",
        "loosened",
        "attachments",
        "expired_attachments",
        "invitations",
        "kept_out",
        "notice_preferences",
        "reports",
    )
]
# Its files go first, for the collector. No more come: the end of an upload has the conversation's lock, or finds it
# closed.
_CLOSED_DOOM = """
UPDATE nestrel.objects SET doomed_at = clock_timestamp() WHERE conversation_id = $1 AND doomed_at IS NULL
"""
# Counters and member rows stay: they tell whoever was away that the conversation has gone.
_CLOSED_EMPTY = """
UPDATE nestrel.conversations SET erased = true, title = '', name = NULL, name_key = NULL, name_look = NULL,
       attributes = NULL, message_count = 0, kept_bytes = 0, floor = head + 1, swept = head + 1
WHERE id = $1
"""


async def step(database: Database) -> bool:
    """Erase up to 2,000 messages, and some of the archive, of one closed conversation; False when there is nothing
    left to erase."""
    async with database.write() as connection:
        await execute(connection, _DELETE_BACKLOG)
    async with database.write() as connection:
        found = await fetch(connection, _CLOSED_NEXT)
        if not found:
            return False
        conversation_id = found[0][0]
        await execute(connection, _CLOSED_DOOM, conversation_id)
        messages = await fetch(connection, _CLOSED_DELETE, conversation_id, _STEP)
        keys = await fetch(connection, _DELETE_KEYS, conversation_id, _STEP)
        segments = await fetch(connection, _DELETE_ARCHIVE, conversation_id)
        if len(messages) < _STEP and len(keys) < _STEP and not segments:
            for statement in (*_DELETE_REST, _CLOSED_EMPTY):
                await execute(connection, statement, conversation_id)
    return True
