"""Members: join or add, change role, leave or remove. Every change is made under the conversation's lock."""

from __future__ import annotations

from dataclasses import dataclass
from uuid import UUID

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.invitations import lost_by
from nestrel.core.membership import check_leaving, role_on_adding, role_on_joining
from nestrel.core.problems import Forbidden, NotFound
from nestrel.core.quotas import Quotas
from nestrel.core.rights import Action
from nestrel.core.roles import Role
from nestrel.store import epochs, fragments
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.write import adding, audit, directory

_CENSUS = """
SELECT (SELECT role FROM nestrel.members WHERE conversation_id = $1 AND user_id = $2 AND left_at IS NULL)
AS role,
       (SELECT count(*) FROM (SELECT 1 FROM nestrel.members WHERE conversation_id = $1 AND role = 'owner'
           AND left_at IS NULL LIMIT 2) o) AS owners,
       c.member_count AS members
FROM nestrel.conversations c WHERE c.id = $1
"""
# Who comes back after leaving keeps the receipt of before, for a receipt only grows.
_MEMBER_PUT = f"""
WITH moved AS (
    UPDATE nestrel.conversations SET rev = rev + 1, member_count = member_count + $1::int,
           crowd = crowd OR {fragments.crowded("member_count + $1::int")},
           moved_xid = pg_current_xact_id(), {epochs.stamp("conversations")}
    WHERE id = $2 RETURNING rev
)
INSERT INTO nestrel.members AS m (conversation_id, user_id, role, joined_at, rev, ranked)
SELECT $2, $3, $4, clock_timestamp(), rev, {fragments.ranked("$4")} FROM moved
ON CONFLICT (conversation_id, user_id) DO UPDATE
SET role = excluded.role, ranked = m.ranked OR excluded.ranked, rev = excluded.rev,
    moved_xid = pg_current_xact_id(), left_at = NULL,
    left_reason = NULL, joined_at = CASE WHEN m.left_at IS NULL THEN m.joined_at ELSE excluded.joined_at END,
    joined_xid = CASE WHEN m.left_at IS NULL THEN m.joined_xid ELSE pg_current_xact_id() END
RETURNING rev
"""
_MEMBER_LEAVE = f"""
WITH moved AS (
    UPDATE nestrel.conversations SET rev = rev + 1, member_count = member_count - 1, moved_xid =
    pg_current_xact_id(),
           {epochs.stamp("conversations")}
    WHERE id = $1 RETURNING rev
)
UPDATE nestrel.members SET left_at = clock_timestamp(), left_reason = $2, rev = moved.rev,
       moved_xid = pg_current_xact_id()
FROM moved WHERE conversation_id = $1 AND user_id = $3 AND left_at IS NULL
RETURNING members.rev
"""

# A change of one's own list, which takes a `rev` so that every device and process learns of it.
_HIDE = f"""
WITH moved AS (
    UPDATE nestrel.conversations SET rev = rev + 1, moved_xid = pg_current_xact_id(), {epochs.stamp("conversations")}
    WHERE id = $1 AND EXISTS (SELECT FROM nestrel.members WHERE conversation_id = $1 AND user_id = $2
        AND left_at IS NULL AND (hidden_head IS NOT NULL AND hidden_head >= head) <> $3)
    RETURNING rev, head
)
UPDATE nestrel.members SET hidden_head = CASE WHEN $3 THEN moved.head END, rev = moved.rev,
       moved_xid = pg_current_xact_id()
FROM moved WHERE conversation_id = $1 AND user_id = $2 RETURNING members.rev
"""
_KEPT_OUT = f"SELECT 1 WHERE {fragments.kept_out('$1', '$2')}"
_END_INVITATIONS = """
DELETE FROM nestrel.invitations
WHERE conversation_id = $1 AND created_by = $2 AND NOT by_service AND role = ANY($3::text[])
"""


@dataclass(frozen=True, slots=True)
class Census:
    """What a decision on a member needs: the member's role, whether owners are more than one, and all members."""

    role: Role | None
    owners: int
    members: int


async def put(
    database: Database, caller: Caller, conversation_id: UUID, user_id: str, wanted: Role | None, quotas: Quotas
) -> bool:
    """Join an open conversation oneself, add someone, or make sure that someone is a member; whether they are new.

    Raises:
        NotFound, Forbidden: the caller may not see it, or not do this.
        OverQuota: there is no room for one more.
        InvalidRequest: nobody like that is known here, and has to be.
    """
    async with database.write() as connection:
        return await put_in(
            database, connection, caller, conversation_id, user_id, wanted, quotas, own=user_id == caller.user_id
        )


async def put_in(
    database: Database,
    connection: Connection,
    caller: Caller,
    conversation_id: UUID,
    user_id: str,
    wanted: Role | None,
    quotas: Quotas,
    *,
    own: bool,
) -> bool:
    """The same in a transaction. `own`: the caller means themselves."""
    action = Action.JOIN if own else Action.ADD
    standing = (await see(connection, conversation_id, caller, action, lock=True)).standing
    known = await census(connection, conversation_id, user_id)
    if own and known.role is None:
        role = role_on_joining(standing, wanted)
    elif own and wanted in (None, known.role):
        role = known.role or role_on_joining(standing, wanted)
    else:
        role = role_on_adding(standing, known.role, wanted, known.owners)
        if known.role is None:
            await _check_not_kept_out(connection, conversation_id, user_id)
            await adding.check_adding(connection, caller, [user_id], quotas)
            await adding.check_known(connection, [user_id], quotas, "/user_id")
    if known.role is None:
        await adding.check_room(connection, caller, [user_id], known.members + 1, quotas, conversation_id)
    await enter(database, connection, conversation_id, user_id, known.role, role)
    if not own or caller.service:
        await _record(connection, caller, conversation_id, user_id, known.role, role)
    return known.role is None


async def change(database: Database, caller: Caller, conversation_id: UUID, user_id: str, wanted: Role) -> None:
    """Change a member's role.

    Raises:
        NotFound, Forbidden: as `put`; also where there is no such member.
    """
    async with database.write() as connection:
        standing = (await see(connection, conversation_id, caller, Action.RANK, lock=True)).standing
        known = await census(connection, conversation_id, user_id)
        role = role_on_adding(standing, known.role or Role.READER, wanted, known.owners)
        if known.role is None:
            raise NotFound("there is no such member")
        await enter(database, connection, conversation_id, user_id, known.role, role)
        if user_id != caller.user_id:
            await _record(connection, caller, conversation_id, user_id, known.role, role)


async def hide(database: Database, caller: Caller, conversation_id: UUID, user_id: str, *, hidden: bool) -> None:
    """Leave a conversation out of one's own list until its next message, or take it in again.

    Raises:
        NotFound, Forbidden: as `put`; also for the list of somebody else.
    """
    async with database.write() as connection:
        await see(connection, conversation_id, caller, Action.HIDE, lock=True)
        if user_id != caller.user_id:
            raise Forbidden("everyone hides conversations from their own list alone")
        found = await fetch(connection, _HIDE, conversation_id, user_id, hidden)
        if found:
            await database.announce(connection, [Moved(conversation_id, found[0][0])])


async def end(database: Database, caller: Caller, conversation_id: UUID, user_id: str) -> None:
    """Leave, or remove someone; the row stays, so that whoever was away learns of it.

    Raises:
        NotFound, Forbidden: as `put`; also where there is no such member.
    """
    async with database.write() as connection:
        await end_in(database, connection, caller, conversation_id, user_id, own=user_id == caller.user_id)


async def end_in(
    database: Database, connection: Connection, caller: Caller, conversation_id: UUID, user_id: str, *, own: bool
) -> None:
    """The same in a transaction. `own`: the caller means themselves."""
    action = Action.LEAVE if own else Action.DISMISS
    standing = (await see(connection, conversation_id, caller, action, lock=True)).standing
    known = await census(connection, conversation_id, user_id)
    check_leaving(standing, known.role, known.owners, known.members, own=own)
    await remove(database, connection, conversation_id, user_id, "left" if own else "removed")
    if not own:
        await audit.record(
            connection, caller, Act.MEMBER_REMOVED, conversation_id=conversation_id, user_id=user_id,
            before={"role": known.role},
        )  # fmt: skip


async def remove(database: Database, connection: Connection, conversation_id: UUID, user_id: str, why: str) -> None:
    """End a membership, under the conversation's lock: they have `left`, or were `removed`."""
    [(rev,)] = await fetch(connection, _MEMBER_LEAVE, conversation_id, why, user_id)
    await _end_invitations(connection, conversation_id, user_id, None)
    await database.announce(connection, [Moved(conversation_id, rev)])


async def _record(
    connection: Connection, caller: Caller, conversation_id: UUID, user_id: str, before: Role | None, after: Role
) -> None:
    if before is not after:
        await audit.record(
            connection, caller, Act.MEMBER_ADDED if before is None else Act.MEMBER_ROLE,
            conversation_id=conversation_id, user_id=user_id, before={"role": before}, after={"role": after},
        )  # fmt: skip


async def _check_not_kept_out(connection: Connection, conversation_id: UUID, user_id: str) -> None:
    if await fetch(connection, _KEPT_OUT, conversation_id, user_id):
        raise Forbidden("this person is kept out of here; let them in again first")


async def census(connection: Connection, conversation_id: UUID, user_id: str) -> Census:
    """What there is to know of a member, or of who is none, under the conversation's lock."""
    [(role, owners, members)] = await fetch(connection, _CENSUS, conversation_id, user_id)
    return Census(Role(role) if role else None, owners, members)


async def _end_invitations(connection: Connection, conversation_id: UUID, user_id: str, role: Role | None) -> None:
    """End the invitations that somebody who now has this role may not make any more."""
    await execute(connection, _END_INVITATIONS, conversation_id, user_id, [one.value for one in lost_by(role)])


async def enter(
    database: Database, connection: Connection, conversation_id: UUID, user_id: str, present: Role | None, role: Role
) -> None:
    """Give somebody a role, under the conversation's lock: `present` is the one that they have."""
    if role is present:
        return
    new = present is None
    [(rev,)] = await fetch(connection, _MEMBER_PUT, int(new), conversation_id, user_id, role.value)
    if new:
        await directory.enlist(connection, [user_id])
    else:
        await _end_invitations(connection, conversation_id, user_id, role)
    await database.announce(connection, [Moved(conversation_id, rev, (user_id,) if new else ())])
