"""Invitations: made, taken back and accepted, each under the conversation's lock."""

from __future__ import annotations

from uuid import UUID

import sqlalchemy as sa

from nestrel.core import limits
from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.invitations import Invitation, role_to_invite, unknown
from nestrel.core.problems import OverQuota
from nestrel.core.quotas import Quotas
from nestrel.core.rights import Action
from nestrel.core.roles import Role, ranks_above
from nestrel.store import admitted
from nestrel.store.access import see
from nestrel.store.composed import Change, Query, only
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.read.invitations import MAKER_STANDS, ROW, invitation
from nestrel.store.tables.base import NOW
from nestrel.store.tables.conversations import conversations, invitations
from nestrel.store.write import adding, audit, keeping_out, members

_OF_CONVERSATION = invitations.c.conversation_id == sa.bindparam("conversation_id")
_OF_ID = sa.and_(_OF_CONVERSATION, invitations.c.id == sa.bindparam("id"))
_OF_TOKEN = invitations.c.token_hash == sa.bindparam("token_hash")
_MADE = sa.select(sa.func.count()).select_from(invitations).where(_OF_CONVERSATION).scalar_subquery()
_MADE_OF = {
    invitations.c.conversation_id: sa.bindparam("conversation_id", type_=sa.Uuid),
    invitations.c.id: sa.bindparam("id", type_=sa.Uuid),
    invitations.c.token_hash: sa.bindparam("token_hash", type_=sa.LargeBinary),
    invitations.c.role: sa.bindparam("role", type_=sa.Text),
    invitations.c.uses_left: sa.bindparam("uses", type_=sa.Integer),
    invitations.c.expires_at: NOW + sa.func.make_interval(0, 0, 0, 0, 0, 0, sa.bindparam("seconds", type_=sa.Double)),
    invitations.c.created_by: sa.bindparam("created_by", type_=sa.Text),
    invitations.c.by_service: sa.bindparam("by_service", type_=sa.Boolean),
}

INVITATION_MAKE = Query(
    sa.insert(invitations)
    .from_select([column.name for column in _MADE_OF], sa.select(*_MADE_OF.values()).where(_MADE < limits.INVITATIONS))
    .returning(*ROW),
    invitation,
)
# What nobody can use any more makes room.
INVITATION_MAKE_ROOM = Change(
    sa.delete(invitations).where(
        _OF_CONVERSATION, sa.or_(invitations.c.uses_left == 0, invitations.c.expires_at <= NOW)
    )
)
INVITATION_REVOKE = Query(sa.delete(invitations).where(_OF_ID).returning(invitations.c.id), only)
INVITATION_CONVERSATION = Query(sa.select(invitations.c.conversation_id).where(_OF_TOKEN), only)
INVITATION_LOCK = Query(
    sa.select(conversations.c.closed_at.is_not(None))
    .where(conversations.c.id == sa.bindparam("conversation_id"))
    .with_for_update(key_share=True),
    bool,
)
INVITATION_FIND = Query(
    sa.select(*ROW, NOW).where(_OF_TOKEN, MAKER_STANDS), lambda *row: (invitation(*row[:-1]), row[-1])
)
INVITATIONS_END_PERSON = Change(sa.delete(invitations).where(invitations.c.created_by == sa.bindparam("user_id")))
INVITATION_USE = Change(sa.update(invitations).where(_OF_ID).values(uses_left=invitations.c.uses_left - 1))


async def make(
    database: Database,
    caller: Caller,
    conversation_id: UUID,
    id_: UUID,
    token_hash: bytes,
    wanted: Role | None,
    uses: int | None,
    seconds: int | None,
) -> Invitation:
    """Make an invitation.

    Raises:
        NotFound, Forbidden, InvalidRequest: as `nestrel.core.invitations.role_to_invite`.
        OverQuota: the conversation has as many as it may.
    """
    async with database.write() as connection:
        standing = (await see(connection, conversation_id, caller, Action.INVITE, lock=True)).standing
        role = role_to_invite(standing, wanted)
        row = {
            "conversation_id": conversation_id, "id": id_, "token_hash": token_hash, "role": role.value, "uses": uses,
            "seconds": seconds, "created_by": caller.user_id, "by_service": caller.service,
        }  # fmt: skip
        made = await INVITATION_MAKE.first(connection, **row)
        if made is None:
            await INVITATION_MAKE_ROOM.run(connection, conversation_id=conversation_id)
            made = await INVITATION_MAKE.first(connection, **row)
        if made is None:
            raise OverQuota(
                f"a conversation has at most {limits.INVITATIONS:,} invitations; take some back",
                extra={"quota": "invitations", "limit": limits.INVITATIONS},
            )
        await audit.record(
            connection, caller, Act.INVITED, conversation_id=conversation_id,
            after={"invitation_id": str(id_), "role": role, "uses": uses, "expires_in": seconds},
        )  # fmt: skip
    return made


async def revoke(database: Database, caller: Caller, conversation_id: UUID, id_: UUID) -> None:
    """Take an invitation back; one that is not there is taken back already.

    Raises:
        NotFound, Forbidden: the caller may not see the conversation, or not do this.
    """
    async with database.write() as connection:
        await see(connection, conversation_id, caller, Action.INVITE, lock=True)
        if await INVITATION_REVOKE.fetch(connection, conversation_id=conversation_id, id=id_):
            await audit.record(
                connection, caller, Act.INVITATION_REVOKED, conversation_id=conversation_id,
                before={"invitation_id": str(id_)},
            )  # fmt: skip


async def accept(database: Database, caller: Caller, token_hash: bytes, quotas: Quotas) -> UUID:
    """Join by an invitation; the conversation. Who is a member already uses nothing up.

    Raises:
        NotFound: there is no such invitation, or they are kept out of where it leads to.
        Expired: it is used up, or past its time.
        OverQuota: there is no room for one more.
    """
    async with database.write() as connection:
        conversation_id: UUID | None = await INVITATION_CONVERSATION.first(connection, token_hash=token_hash)
        if conversation_id is None:
            raise unknown()
        closed = await INVITATION_LOCK.first(connection, conversation_id=conversation_id)
        # Under the lock: whoever ended it meanwhile has done so.
        found = await INVITATION_FIND.first(connection, token_hash=token_hash)
        if closed is not False or found is None:
            raise unknown()
        await admitted.check(connection, caller)
        one, now = found
        known = await members.census(connection, conversation_id, caller.user_id)
        if known.role is None:
            if await keeping_out.find(connection, conversation_id, caller.user_id) is not None:
                raise unknown()
            one.check_open(now)
            await adding.check_room(connection, caller, [caller.user_id], known.members + 1, quotas, conversation_id)
            await INVITATION_USE.run(connection, conversation_id=conversation_id, id=one.id)
            await members.enter(database, connection, conversation_id, caller.user_id, None, one.role)
            if ranks_above(one.role, Role.WRITER):
                await audit.record(
                    connection, caller, Act.INVITATION_ACCEPTED, conversation_id=conversation_id,
                    user_id=one.created_by, after={"invitation_id": str(one.id), "role": one.role},
                )  # fmt: skip
    return conversation_id


async def end_person(connection: Connection, user_id: str) -> None:
    """End what somebody has made: they are signed out, suspended, or erased. It does not come back."""
    await INVITATIONS_END_PERSON.run(connection, user_id=user_id)
