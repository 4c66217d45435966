"""Who may read an attachment: everybody who may read a message that has it."""

from __future__ import annotations

from typing import NamedTuple
from uuid import UUID

from nestrel.core.attachments import Attachment
from nestrel.core.callers import Caller
from nestrel.core.problems import Expired, NotFound
from nestrel.core.rights import Action
from nestrel.store import rows
from nestrel.store.access import Access
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import ATTACHMENT_COLUMNS

# `live`: a message that is still kept bears it. `kept`: one that has expired and is in the archive does, or is on its
# way there.
_ATTACHMENT_SHOW = f"""
SELECT {ATTACHMENT_COLUMNS}, object_id, unused_since IS NOT NULL,
       EXISTS (SELECT FROM nestrel.attached t
               WHERE t.conversation_id = a.conversation_id AND t.attachment_id = a.id AND t.seq >= $3),
       EXISTS (SELECT FROM nestrel.attached t
               JOIN nestrel.conversations c ON c.id = t.conversation_id
               LEFT JOIN nestrel.expired_backlog b ON b.conversation_id = t.conversation_id
               WHERE t.conversation_id = a.conversation_id AND t.attachment_id = a.id AND t.seq < $3
                 AND (t.seq < coalesce(b.next_seq, c.floor)
                      OR (CASE WHEN t.seq < c.earlier_below THEN c.earlier_then ELSE c.after_expiry END) = 'archive')),
       EXISTS (SELECT FROM nestrel.attached t WHERE t.conversation_id = a.conversation_id AND t.attachment_id = a.id)
FROM nestrel.attachments a WHERE conversation_id = $1 AND id = $2
"""
_ATTACHMENT_EXPIRED = """
SELECT EXISTS (SELECT FROM nestrel.expired_attachments WHERE conversation_id = $1 AND attachment_id = $2)
    OR EXISTS (SELECT FROM nestrel.loosened WHERE conversation_id = $1 AND attachment_id = $2 AND expired)
"""
_PREVIEW = "SELECT preview_id FROM nestrel.previews WHERE object_id = $1 AND width = $2"


class Shown(NamedTuple):
    """An attachment that the caller may read, and the object that holds its bytes."""

    attachment: Attachment
    object_id: UUID


async def show(connection: Connection, access: Access, caller: Caller, attachment_id: UUID) -> Shown:
    """An attachment for a caller who may read it now.

    Raises:
        NotFound: there is none that they may read, or it was removed.
        Expired: its messages are no longer kept; an owner or a backend still reads what is archived.
    """
    found = await fetch(connection, _ATTACHMENT_SHOW, access.id, attachment_id, access.floor)
    if found:
        *columns, object_id, unused, live, archived, borne = found[0]
        one = rows.attachment(columns)
        if live or (archived and access.standing.may(Action.ARCHIVE)) or (unused and one.uploader_id == caller.user_id):
            return Shown(one, object_id)
        if borne:
            raise _expired(attachment_id)
    [(expired,)] = await fetch(connection, _ATTACHMENT_EXPIRED, access.id, attachment_id)
    if expired:
        raise _expired(attachment_id)
    raise NotFound(f"there is no attachment {attachment_id} that you may read")


def _expired(attachment_id: UUID) -> Expired:
    return Expired(f"attachment {attachment_id} belongs to messages that are no longer kept")


async def preview(connection: Connection, object_id: UUID, width: int) -> UUID | None:
    """The object that holds an object's preview, if that has been made."""
    found = await fetch(connection, _PREVIEW, object_id, width)
    return found[0][0] if found else None
