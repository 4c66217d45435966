"""Invitations as they are listed, and as who has a token sees them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.invitations import Invitation, unknown
from nestrel.core.roles import Role
from nestrel.store import fragments, rows
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire

COLUMNS = "id, conversation_id, role, uses_left, expires_at, created_by, created_at"


def maker_stands(of: str) -> str:
    """SQL for whether whoever made an invitation is neither suspended nor signed out since."""
    return f"""NOT EXISTS (SELECT FROM nestrel.barred b WHERE b.user_id = {of}.created_by
    AND ({fragments.SUSPENDED} OR not_before >= date_trunc('second', {of}.created_at)))"""


_INVITATION_PAGE = f"""
SELECT {COLUMNS} FROM nestrel.invitations WHERE conversation_id = $1 AND id > $2 ORDER BY id LIMIT $3
"""
_INVITATION_SHOW = f"""
SELECT {rows.columns("i", COLUMNS)}, clock_timestamp(), c.title, c.name, c.kind, c.member_count, m.user_id IS NOT NULL
FROM nestrel.invitations i
JOIN nestrel.conversations c ON c.id = i.conversation_id AND c.closed_at IS NULL
LEFT JOIN nestrel.members m ON m.conversation_id = c.id AND m.user_id = $2 AND m.left_at IS NULL
WHERE i.token_hash = $1 AND {maker_stands("i")}
  AND NOT {fragments.kept_out("i.conversation_id", "$2")}
"""


def invitation(row: Sequence[Any]) -> Invitation:
    """An invitation from a row in the order of `COLUMNS`."""
    return Invitation(row[0], row[1], Role(row[2]), *row[3:])


async def page(
    connection: Connection, conversation_id: UUID, limit: int, after: UUID
) -> tuple[list[Invitation], UUID | None]:
    """Invitations by id, which is by when they were made, and the id to continue after; None at the end."""
    found = [invitation(row) for row in await fetch(connection, _INVITATION_PAGE, conversation_id, after, limit + 1)]
    return found[:limit], found[limit - 1].id if len(found) > limit else None


async def show(connection: Connection, caller: Caller, token_hash: bytes) -> Wire:
    """What an invitation leads to.

    Raises:
        NotFound: there is no such invitation.
        Expired: it is used up or past its time, and the caller is no member.
    """
    found = await fetch(connection, _INVITATION_SHOW, token_hash, caller.user_id)
    if not found:
        raise unknown()
    *row, now, title, name, kind, count, member = found[0]
    one = invitation(row)
    if not member:
        one.check_open(now)
    return {
        "conversation_id": str(one.conversation_id),
        "title": title,
        "name": name,
        "kind": kind,
        "members": count,
        "role": one.role.value,
    }
