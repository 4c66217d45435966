"""What no message bears any more goes: the attachment, then the object, then its bytes. In bounded steps, by as many
processes as like.

The row is always taken before the bytes are: an object that is `taken` never becomes an attachment's, so what is then
deleted is nobody's. Names are used once, so that deleting again, after a kill, deletes nothing else.
"""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from nestrel.core import limits
from nestrel.store.database import Database
from nestrel.store.native import Connection, array, execute, fetch
from nestrel.store.write import uploads

_STEP = 200

_LOOSENED = """
DELETE FROM nestrel.loosened WHERE (conversation_id, attachment_id) IN (
    SELECT conversation_id, attachment_id FROM nestrel.loosened ORDER BY conversation_id, attachment_id LIMIT $1
    FOR UPDATE SKIP LOCKED)
RETURNING conversation_id, attachment_id, expired
"""
_COLLECTING_LOCK = """
SELECT FROM nestrel.attachments
WHERE (conversation_id, id) IN (SELECT * FROM unnest($1::text::uuid[], $2::text::uuid[]))
ORDER BY conversation_id, id FOR UPDATE
"""
# A statement of its own, behind the lock: it sees a message that has begun to bear one meanwhile.
_COLLECTING_DELETE = """
WITH gone AS (
    DELETE FROM nestrel.attachments a
    USING unnest($1::text::uuid[], $2::text::uuid[], $3::text::boolean[]) AS w (conversation_id, id, expired)
    WHERE a.conversation_id = w.conversation_id AND a.id = w.id AND NOT EXISTS (
        SELECT FROM nestrel.attached t WHERE t.conversation_id = a.conversation_id AND t.attachment_id = a.id)
    RETURNING a.conversation_id, a.id, a.object_id, w.expired
), remembered AS (
    INSERT INTO nestrel.expired_attachments (conversation_id, attachment_id)
    SELECT conversation_id, id FROM gone WHERE expired ON CONFLICT DO NOTHING
)
SELECT DISTINCT object_id FROM gone
"""
_COLLECTING_UNUSED = f"""
DELETE FROM nestrel.attachments WHERE (conversation_id, id) IN (
    SELECT conversation_id, id FROM nestrel.attachments
    WHERE unused_since < clock_timestamp() - interval '{limits.UNUSED_HOURS} hours' LIMIT $1 FOR UPDATE SKIP LOCKED)
RETURNING object_id
"""
_LOCK_OBJECTS = "SELECT FROM nestrel.objects WHERE id = ANY($1::text::uuid[]) ORDER BY id FOR UPDATE"
_COLLECTING_DOOM = """
UPDATE nestrel.objects o SET doomed_at = clock_timestamp()
WHERE id = ANY($1::text::uuid[]) AND doomed_at IS NULL
  AND NOT EXISTS (SELECT FROM nestrel.attachments a WHERE a.object_id = o.id)
"""
_COLLECTING_TAKE = """
UPDATE nestrel.objects SET taken = true, doomed_at = clock_timestamp() + interval '60 seconds' WHERE id IN (
    SELECT id FROM nestrel.objects WHERE doomed_at < clock_timestamp() ORDER BY doomed_at LIMIT $1
    FOR UPDATE SKIP LOCKED)
RETURNING id
"""
_PREVIEWS = """
WITH gone AS (DELETE FROM nestrel.previews WHERE object_id = ANY($1::text::uuid[]) RETURNING preview_id)
UPDATE nestrel.objects SET doomed_at = clock_timestamp() FROM gone WHERE id = preview_id AND NOT taken
"""
_COLLECTING_FORGET = "DELETE FROM nestrel.objects WHERE id = ANY($1::text::uuid[]) AND taken"
_OLD_DAYS = """
DELETE FROM nestrel.uploaded WHERE (day, user_id) IN (
    SELECT day, user_id FROM nestrel.uploaded WHERE day < (clock_timestamp() AT TIME ZONE 'UTC')::date - 1
    ORDER BY day, user_id LIMIT $1)
RETURNING 1
"""
_ADD_PREVIEW = """
INSERT INTO nestrel.previews (object_id, width, preview_id)
SELECT id, $2, $3 FROM nestrel.objects WHERE id = $1 AND doomed_at IS NULL FOR SHARE
ON CONFLICT DO NOTHING RETURNING preview_id
"""


async def loosen(database: Database) -> bool:
    """Take away attachments that no message bears any more, and those that nobody has posted for a day; whether there
    may be more."""
    async with database.write() as connection:
        found = await fetch(connection, _LOOSENED, _STEP)
        if found:
            ids, attachments, expired = zip(*found, strict=True)
            await execute(connection, _COLLECTING_LOCK, array(ids), array(attachments))
            gone = await fetch(connection, _COLLECTING_DELETE, array(ids), array(attachments), array(expired))
            await _doom(connection, [row[0] for row in gone])
    async with database.write() as connection:
        unused = await fetch(connection, _COLLECTING_UNUSED, _STEP)
        await _doom(connection, [row[0] for row in unused])
    return len(found) == _STEP or len(unused) == _STEP


async def _doom(connection: Connection, objects: Sequence[UUID]) -> None:
    """Give objects to the collector that no attachment has any more."""
    if objects:
        ids = array(sorted(set(objects)))
        await execute(connection, _LOCK_OBJECTS, ids)
        await execute(connection, _COLLECTING_DOOM, ids)


async def take(database: Database) -> list[UUID]:
    """Objects whose bytes are to be deleted now, and `forget`ten then; whoever dies in between leaves them to another
    after a minute."""
    async with database.write() as connection:
        taken = [row[0] for row in await fetch(connection, _COLLECTING_TAKE, _STEP)]
        if taken:
            await execute(connection, _PREVIEWS, array(taken))
    return taken


async def forget(database: Database, objects: Sequence[UUID]) -> None:
    """Forget objects of which no bytes are left."""
    async with database.write() as connection:
        await execute(connection, _COLLECTING_FORGET, array(objects))


async def forget_days(database: Database) -> bool:
    """Forget some of what was uploaded before yesterday; whether there may be more."""
    async with database.write() as connection:
        return len(await fetch(connection, _OLD_DAYS, _STEP)) == _STEP


async def add_preview(database: Database, object_id: UUID, width: int, preview_id: UUID) -> bool:
    """Keep a preview that has been written; False where there is one already, or its picture has gone."""
    async with database.write() as connection:
        if not await fetch(connection, _ADD_PREVIEW, object_id, width, preview_id):
            return False
        await uploads.keep(connection, preview_id, None)
    return True
