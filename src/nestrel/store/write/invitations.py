"""Invitations: made, taken back and accepted, each under the conversation's lock."""

from __future__ import annotations

from uuid import UUID

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
from nestrel.store.database import Database
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.read.invitations import COLUMNS, invitation, maker_stands
from nestrel.store.write import adding, audit, keeping_out, members

_INVITATION_MAKE = f"""
INSERT INTO nestrel.invitations (conversation_id, id, token_hash, role, uses_left, expires_at, created_by, by_service)
SELECT $1, $2, $3, $4, $5, clock_timestamp() + make_interval(secs => $6::float8), $7, $8
WHERE (SELECT count(*) FROM nestrel.invitations WHERE conversation_id = $1) < {limits.INVITATIONS}
RETURNING {COLUMNS}
"""
# What nobody can use any more makes room.
_INVITATION_MAKE_ROOM = """
DELETE FROM nestrel.invitations WHERE conversation_id = $1 AND (uses_left = 0 OR expires_at <= clock_timestamp())
"""
_REVOKE = "DELETE FROM nestrel.invitations WHERE conversation_id = $1 AND id = $2 RETURNING 1"
_INVITATION_PLACE = "SELECT conversation_id FROM nestrel.invitations WHERE token_hash = $1"
_INVITATION_LOCK = "SELECT closed_at IS NOT NULL FROM nestrel.conversations WHERE id = $1 FOR NO KEY UPDATE"
_INVITATION_FIND = f"""
SELECT {COLUMNS}, clock_timestamp() FROM nestrel.invitations i WHERE token_hash = $1 AND {maker_stands("i")}
"""
_END_PERSON = "DELETE FROM nestrel.invitations WHERE created_by = $1"
_INVITATION_USE = "UPDATE nestrel.invitations SET uses_left = uses_left - 1 WHERE conversation_id = $1 AND id = $2"


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
        row = (conversation_id, id_, token_hash, role.value, uses, seconds, caller.user_id, caller.service)
        found = await fetch(connection, _INVITATION_MAKE, *row)
        if not found:
            await execute(connection, _INVITATION_MAKE_ROOM, conversation_id)
            found = await fetch(connection, _INVITATION_MAKE, *row)
        if not found:
            raise OverQuota(
                f"a conversation has at most {limits.INVITATIONS:,} invitations; take some back",
                extra={"quota": "invitations", "limit": limits.INVITATIONS},
            )
        await audit.record(
            connection, caller, Act.INVITED, conversation_id=conversation_id,
            after={"invitation_id": str(id_), "role": role, "uses": uses, "expires_in": seconds},
        )  # fmt: skip
    return invitation(found[0])


async def revoke(database: Database, caller: Caller, conversation_id: UUID, id_: UUID) -> None:
    """Take an invitation back; one that is not there is taken back already.

    Raises:
        NotFound, Forbidden: the caller may not see the conversation, or not do this.
    """
    async with database.write() as connection:
        await see(connection, conversation_id, caller, Action.INVITE, lock=True)
        if await fetch(connection, _REVOKE, conversation_id, id_):
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
        place = await fetch(connection, _INVITATION_PLACE, token_hash)
        if not place:
            raise unknown()
        conversation_id: UUID = place[0][0]
        locked = await fetch(connection, _INVITATION_LOCK, conversation_id)
        found = await fetch(
            connection, _INVITATION_FIND, token_hash
        )  # under the lock: whoever ended it meanwhile has done so
        if not locked or locked[0][0] or not found:
            raise unknown()
        await admitted.check(connection, caller)
        *row, now = found[0]
        one = invitation(row)
        known = await members.census(connection, conversation_id, caller.user_id)
        if known.role is None:
            if await keeping_out.find(connection, conversation_id, caller.user_id) is not None:
                raise unknown()
            one.check_open(now)
            await adding.check_room(connection, caller, [caller.user_id], known.members + 1, quotas, conversation_id)
            await execute(connection, _INVITATION_USE, conversation_id, one.id)
            await members.enter(database, connection, conversation_id, caller.user_id, None, one.role)
            if ranks_above(one.role, Role.WRITER):
                await audit.record(
                    connection, caller, Act.INVITATION_ACCEPTED, conversation_id=conversation_id,
                    user_id=one.created_by, after={"invitation_id": str(one.id), "role": one.role},
                )  # fmt: skip
    return conversation_id


async def end_person(connection: Connection, user_id: str) -> None:
    """End what somebody has made: they are signed out, suspended, or erased. It does not come back."""
    await execute(connection, _END_PERSON, user_id)
