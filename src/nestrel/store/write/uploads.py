"""The rows of an upload. An object's row is marked to be collected before its first byte is written; with the last byte
the object belongs to an attachment, and the mark goes. If a process is killed in between, the collector finds the
rest."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

import asyncpg

from nestrel.core import limits
from nestrel.core.attachments import Attachment
from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.problems import Forbidden, OverQuota, StoreUnavailable, Trouble
from nestrel.core.rights import Action, no_conversation
from nestrel.core.roles import Kind
from nestrel.store import admitted, rows
from nestrel.store.access import Access, see
from nestrel.store.database import Database
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.rows import ATTACHMENT_COLUMNS
from nestrel.store.write import audit, erased

LEASE = timedelta(seconds=limits.UPLOAD_SECONDS + 1_800)
"""An object is not the collector's before that: no upload takes so long."""

_UPLOAD_BEGIN = """
INSERT INTO nestrel.objects (id, conversation_id, doomed_at) VALUES ($1, $2, clock_timestamp() + $3::interval)
"""
_USED = "SELECT coalesce((SELECT bytes FROM nestrel.uploaded WHERE user_id = $1 AND day = $2), 0)"
_UPLOAD_UNUSED = """
SELECT count(*) FROM (SELECT FROM nestrel.attachments WHERE uploader_id = $1 AND unused_since IS NOT NULL LIMIT $2) u
"""
# Also the lock under which one member's uploads end one after the other.
_UPLOAD_USE = """
INSERT INTO nestrel.uploaded AS u (user_id, day, bytes) VALUES ($1, (clock_timestamp() AT TIME ZONE 'UTC')::date, $2)
ON CONFLICT (user_id, day) DO UPDATE SET bytes = u.bytes + excluded.bytes
RETURNING u.bytes, clock_timestamp()
"""
_UPLOAD_HOLD = "SELECT closed_at FROM nestrel.conversations WHERE id = $1 FOR SHARE"
_AGAIN = f"""
UPDATE nestrel.attachments a SET unused_since = CASE WHEN unused_since IS NOT NULL THEN clock_timestamp() END
WHERE (conversation_id, id) IN (
    SELECT conversation_id, id FROM nestrel.attachments b
    WHERE conversation_id = $1 AND sha256 = $2 AND uploader_id = $3 AND name = $4
      AND (unused_since IS NOT NULL OR EXISTS (SELECT FROM nestrel.attached t
           WHERE t.conversation_id = b.conversation_id AND t.attachment_id = b.id AND t.seq >= $5))
    ORDER BY id LIMIT 1 FOR NO KEY UPDATE)
RETURNING {ATTACHMENT_COLUMNS}
"""
_SAME = """
SELECT id FROM nestrel.objects WHERE conversation_id = $1 AND sha256 = $2 AND doomed_at IS NULL FOR NO KEY UPDATE
"""
_UPLOAD_KEEP = """
UPDATE nestrel.objects SET doomed_at = NULL, sha256 = $2 WHERE id = $1 AND NOT taken AND doomed_at IS NOT NULL
RETURNING id
"""
_UPLOAD_GIVE_UP = "UPDATE nestrel.objects SET doomed_at = clock_timestamp() WHERE id = ANY($1::uuid[]) AND NOT taken"
_UPLOAD_ADD = f"""
INSERT INTO nestrel.attachments (conversation_id, id, object_id, uploader_id, name, media_type, bytes, sha256, width,
                                 height, still)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11) RETURNING {ATTACHMENT_COLUMNS}
"""


@dataclass(frozen=True, slots=True)
class Came:
    """What has come: the object that holds it, durable, and what there is to say of it."""

    object_id: UUID
    uploader_id: str
    name: str
    media_type: str
    size: int
    sha256: bytes
    width: int | None = None
    height: int | None = None
    still: bool = False


_UPLOAD_BLOCKED = "SELECT blocked FROM nestrel.conversations WHERE id = $1"


async def may_upload(connection: Connection, conversation_id: UUID, caller: Caller) -> Access:
    """The conversation for who may post into it.

    Raises:
        NotFound: they may not know of it.
        Forbidden: they may not post, or one of the two of a direct conversation has blocked the other.
    """
    access = await see(connection, conversation_id, caller, Action.POST)
    if access.standing.kind is Kind.DIRECT and not caller.service:
        [(blocked,)] = await fetch(connection, _UPLOAD_BLOCKED, conversation_id)
        if blocked:
            raise Forbidden("this conversation takes no messages")
    return access


async def begin(
    database: Database,
    access: Access,
    object_id: UUID,
    uploader_id: str,
    name: str,
    size: int,
    sha256: bytes | None,
    *,
    bound: bool,
) -> None:
    """Say that an object is coming, of about so many bytes and, where the caller has said so, of this hash. `bound`:
    its uploader has quotas; what is there already, under this name, uses nothing of them.

    Raises:
        OverQuota: they have no room for it.
    """
    async with database.write() as connection:
        same = (access.id, sha256, uploader_id, name, access.floor)
        if bound and not (sha256 is not None and await fetch(connection, _AGAIN, *same)):
            now = (await fetch(connection, "SELECT clock_timestamp()"))[0][0]
            [(used,)] = await fetch(connection, _USED, uploader_id, now.date())
            _check_day(used + size, now)
            await _check_unused(connection, uploader_id)
        await execute(connection, _UPLOAD_BEGIN, object_id, access.id, LEASE)


async def announce(database: Database, conversation_id: UUID, object_id: UUID) -> None:
    """Say that an object is coming that is nobody's upload."""
    async with database.write() as connection:
        await execute(connection, _UPLOAD_BEGIN, object_id, conversation_id, LEASE)


async def finish(
    database: Database, conversation_id: UUID, attachment_id: UUID, came: Came, caller: Caller, *, bound: bool
) -> tuple[Attachment, bool]:
    """Make an attachment of what has come, or find the one that it repeats; True for a new one. An object that is not
    needed stays doomed.

    Raises:
        NotFound, Forbidden: meanwhile the caller may not post there any more.
        OverQuota: there is no room for it.
        StoreUnavailable: the object was given up meanwhile; send it again.
    """
    for last in (False, True):
        try:
            async with database.write() as connection:
                return await _finish(connection, conversation_id, attachment_id, came, caller, bound=bound)
        except asyncpg.UniqueViolationError:  # equal bytes came through another door at this moment
            if last:
                raise
    raise AssertionError


async def _finish(
    connection: Connection, conversation_id: UUID, attachment_id: UUID, came: Came, caller: Caller, *, bound: bool
) -> tuple[Attachment, bool]:
    held = await fetch(connection, _UPLOAD_HOLD, conversation_id)
    if not held or held[0][0] is not None:
        raise no_conversation(conversation_id)
    access = await may_upload(connection, conversation_id, caller)
    await admitted.check(connection, caller)
    used, now = (await fetch(connection, _UPLOAD_USE, came.uploader_id, 0))[0]
    found = await fetch(connection, _AGAIN, conversation_id, came.sha256, came.uploader_id, came.name, access.floor)
    if found:
        await execute(connection, _UPLOAD_GIVE_UP, [came.object_id])
        return rows.attachment(found[0]), False
    if bound:
        _check_day(used + came.size, now)
        await _check_unused(connection, came.uploader_id)
        await execute(connection, _UPLOAD_USE, came.uploader_id, came.size)
    same = await fetch(connection, _SAME, conversation_id, came.sha256)
    if same:
        await execute(connection, _UPLOAD_GIVE_UP, [came.object_id])
        object_id = same[0][0]
    else:
        object_id = came.object_id
        await keep(connection, object_id, came.sha256)
    row = (conversation_id, attachment_id, object_id, came.uploader_id, came.name, came.media_type, came.size,
           came.sha256, came.width, came.height, came.still)  # fmt: skip
    added = await fetch(connection, _UPLOAD_ADD, *row)
    if came.uploader_id != caller.user_id:
        await erased.check_none(connection, [came.uploader_id], "/on_behalf_of")
        done = audit.Done(caller.user_id, Act.UPLOADED_FOR, conversation_id, came.uploader_id, None, caller.request_id)
        await audit.count(connection, [done])
    return rows.attachment(added[0]), True


async def keep(connection: Connection, object_id: UUID, sha256: bytes | None) -> None:
    """Doom an object no more. Raises `StoreUnavailable` when the collector has it already."""
    if not await fetch(connection, _UPLOAD_KEEP, object_id, sha256):
        raise StoreUnavailable("the upload took too long; send it again", retry_after=1, reason=Trouble.SLOW)


async def give_up(database: Database, object_id: UUID) -> None:
    """Leave an object to the collector."""
    async with database.write() as connection:
        await execute(connection, _UPLOAD_GIVE_UP, [object_id])


def _check_day(used: int, now: datetime) -> None:
    if used > limits.UPLOADED_BYTES:
        midnight = (now + timedelta(days=1)).replace(hour=0, minute=0, second=0, microsecond=0)
        raise OverQuota(
            f"a member uploads at most {limits.UPLOADED_BYTES:,} bytes a day",
            extra={"quota": "uploads", "limit": limits.UPLOADED_BYTES},
            retry_after=int((midnight - now).total_seconds()) + 1,
        )


async def _check_unused(connection: Connection, uploader_id: str) -> None:
    [(unused,)] = await fetch(connection, _UPLOAD_UNUSED, uploader_id, limits.UNUSED_ATTACHMENTS)
    if unused >= limits.UNUSED_ATTACHMENTS:
        raise OverQuota(
            f"a member has at most {limits.UNUSED_ATTACHMENTS} attachments that are in no message; post them, or wait "
            f"until they go after {limits.UNUSED_HOURS} hours",
            extra={"quota": "unused_attachments", "limit": limits.UNUSED_ATTACHMENTS},
        )
