"""Invitations as they are listed, and as who has a token sees them."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple
from uuid import UUID

import sqlalchemy as sa

from nestrel.core.callers import Caller
from nestrel.core.invitations import Invitation, unknown
from nestrel.core.roles import Role
from nestrel.store import fragments
from nestrel.store.composed import Query
from nestrel.store.native import Connection
from nestrel.store.rows import Wire
from nestrel.store.tables.base import NOW
from nestrel.store.tables.conversations import conversations, invitations, kept_out, members
from nestrel.store.tables.people import barred

ROW = (
    invitations.c.id, invitations.c.conversation_id, invitations.c.role, invitations.c.uses_left,
    invitations.c.expires_at, invitations.c.created_by, invitations.c.created_at,
)  # fmt: skip
"""What an `invitation` is made of."""

MAKER_STANDS = ~sa.exists().where(
    barred.c.user_id == invitations.c.created_by,
    sa.or_(fragments.IS_SUSPENDED, barred.c.not_before >= sa.func.date_trunc("second", invitations.c.created_at)),
)
"""Whether whoever made an invitation is neither suspended nor signed out since."""


def invitation(
    id_: UUID,
    conversation_id: UUID,
    role: str,
    uses_left: int | None,
    expires_at: datetime | None,
    created_by: str,
    created_at: datetime,
) -> Invitation:
    """An invitation from the columns of `ROW`."""
    return Invitation(id_, conversation_id, Role(role), uses_left, expires_at, created_by, created_at)


class Shown(NamedTuple):
    """An invitation and where it leads to; whether the caller is a member there."""

    invitation: Invitation
    now: datetime
    title: str | None
    name: str | None
    kind: str
    members: int
    member: bool


INVITATION_PAGE = Query(
    sa.select(*ROW)
    .where(invitations.c.conversation_id == sa.bindparam("conversation_id"), invitations.c.id > sa.bindparam("after"))
    .order_by(invitations.c.id)
    .limit(sa.bindparam("limit")),
    invitation,
)
INVITATION_SHOW = Query(
    sa.select(
        *ROW, NOW, conversations.c.title, conversations.c.name, conversations.c.kind, conversations.c.member_count,
        members.c.user_id.is_not(None),
    )
    .select_from(invitations)
    .join(
        conversations,
        sa.and_(conversations.c.id == invitations.c.conversation_id, conversations.c.closed_at.is_(None)),
    )
    .outerjoin(members, fragments.MEMBER_NOW)
    .where(
        invitations.c.token_hash == sa.bindparam("token_hash"),
        MAKER_STANDS,
        ~sa.exists().where(
            kept_out.c.conversation_id == invitations.c.conversation_id,
            kept_out.c.user_id == sa.bindparam("user_id"),
            fragments.KEPT_OUT_STILL,
        ),
    ),
    lambda *row: Shown(invitation(*row[:7]), *row[7:]),
)  # fmt: skip


async def page(
    connection: Connection, conversation_id: UUID, limit: int, after: UUID
) -> tuple[list[Invitation], UUID | None]:
    """Invitations by id, which is by when they were made, and the id to continue after; None at the end."""
    found = await INVITATION_PAGE.fetch(connection, conversation_id=conversation_id, after=after, limit=limit + 1)
    return found[:limit], found[limit - 1].id if len(found) > limit else None


async def show(connection: Connection, caller: Caller, token_hash: bytes) -> Wire:
    """What an invitation leads to.

    Raises:
        NotFound: there is no such invitation.
        Expired: it is used up or past its time, and the caller is no member.
    """
    shown = await INVITATION_SHOW.first(connection, token_hash=token_hash, user_id=caller.user_id)
    if shown is None:
        raise unknown()
    if not shown.member:
        shown.invitation.check_open(shown.now)
    return {
        "conversation_id": str(shown.invitation.conversation_id),
        "title": shown.title,
        "name": shown.name,
        "kind": shown.kind,
        "members": shown.members,
        "role": shown.invitation.role.value,
    }
