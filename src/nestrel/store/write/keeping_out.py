"""Keeping someone out, and letting them in again, under the conversation's lock."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import insert

from nestrel.core import limits
from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.keeping_out import KeptOut, check_kind, check_target
from nestrel.core.problems import OverQuota
from nestrel.core.rights import Action
from nestrel.core.times import format_time
from nestrel.store import fragments
from nestrel.store.access import see
from nestrel.store.composed import Change, Query, only
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.tables.base import NOW
from nestrel.store.tables.conversations import kept_out
from nestrel.store.write import audit, members

_ROW = (kept_out.c.user_id, kept_out.c.until, kept_out.c.reason, kept_out.c.kept_out_by, kept_out.c.kept_out_at)
_OF_CONVERSATION = kept_out.c.conversation_id == sa.bindparam("conversation_id")
_OF_PERSON = sa.and_(_OF_CONVERSATION, kept_out.c.user_id == sa.bindparam("user_id"))
_KEPT = sa.select(sa.func.count()).select_from(kept_out).where(_OF_CONVERSATION).scalar_subquery()
_PUT_COLUMNS = (kept_out.c.conversation_id, *_ROW[:-1])
_PUT = insert(kept_out).from_select(
    [column.name for column in _PUT_COLUMNS],
    sa.select(*(sa.bindparam(column.name, type_=column.type) for column in _PUT_COLUMNS)).where(
        sa.or_(_KEPT < limits.KEPT_OUT, sa.exists().where(_OF_PERSON))
    ),
)

KEPT_OUT_FIND = Query(sa.select(*_ROW).where(_OF_PERSON, fragments.KEPT_OUT_STILL), KeptOut)
KEPT_OUT_PUT = Query(
    _PUT.on_conflict_do_update(
        index_elements=[kept_out.c.conversation_id, kept_out.c.user_id],
        set_={name: _PUT.excluded[name] for name in ("until", "reason", "kept_out_by")} | {"kept_out_at": NOW},
    ).returning(*_ROW),
    KeptOut,
)
KEPT_OUT_MAKE_ROOM = Change(sa.delete(kept_out).where(_OF_CONVERSATION, kept_out.c.until <= NOW))
KEPT_OUT_DELETE = Query(sa.delete(kept_out).where(_OF_PERSON).returning(kept_out.c.until), only)
KEPT_OUT_PAGE = Query(
    sa.select(*_ROW)
    .where(_OF_CONVERSATION, kept_out.c.user_id > sa.bindparam("after"), fragments.KEPT_OUT_STILL)
    .order_by(kept_out.c.user_id)
    .limit(sa.bindparam("limit")),
    KeptOut,
)


async def put(
    database: Database, caller: Caller, conversation_id: UUID, user_id: str, until: datetime | None, reason: str | None
) -> tuple[KeptOut, bool]:
    """Keep someone out, a member too; whether they were not before.

    Raises:
        NotFound, Forbidden, InvalidRequest: as `nestrel.core.keeping_out` decides.
        OverQuota: the conversation keeps out as many as it may.
    """
    async with database.write() as connection:
        standing = (await see(connection, conversation_id, caller, Action.KEEP_OUT, lock=True)).standing
        check_kind(standing)
        known = await members.census(connection, conversation_id, user_id)
        check_target(standing, known.role, known.owners, known.members, own=user_id == caller.user_id)
        before = await find(connection, conversation_id, user_id)
        await KEPT_OUT_MAKE_ROOM.run(connection, conversation_id=conversation_id)
        row = await KEPT_OUT_PUT.first(
            connection, conversation_id=conversation_id, user_id=user_id, until=until, reason=reason,
            kept_out_by=caller.user_id,
        )  # fmt: skip
        if row is None:
            raise OverQuota(
                f"a conversation keeps at most {limits.KEPT_OUT:,} people out",
                extra={"quota": "kept_out", "limit": limits.KEPT_OUT},
            )
        if known.role is not None:
            await members.remove(database, connection, conversation_id, user_id, "removed")
        await audit.record(
            connection, caller, Act.KEPT_OUT, conversation_id=conversation_id, user_id=user_id,
            before={"role": known.role}, after={"until": None if until is None else format_time(until)}, reason=reason,
        )  # fmt: skip
    return row, before is None


async def let_in(database: Database, caller: Caller, conversation_id: UUID, user_id: str) -> None:
    """Keep someone out no longer; they can join, or be added, as anyone.

    Raises:
        NotFound, Forbidden, InvalidRequest: as `put`.
    """
    async with database.write() as connection:
        check_kind((await see(connection, conversation_id, caller, Action.KEEP_OUT, lock=True)).standing)
        if await KEPT_OUT_DELETE.fetch(connection, conversation_id=conversation_id, user_id=user_id):
            await audit.record(connection, caller, Act.LET_IN, conversation_id=conversation_id, user_id=user_id)


async def find(connection: Connection, conversation_id: UUID, user_id: str) -> KeptOut | None:
    """How someone is kept out, if they are."""
    return await KEPT_OUT_FIND.first(connection, conversation_id=conversation_id, user_id=user_id)


async def page(
    connection: Connection, conversation_id: UUID, limit: int, after: str
) -> tuple[list[KeptOut], str | None]:
    """Who is kept out, by user id, and the id to continue after; None at the end."""
    found = await KEPT_OUT_PAGE.fetch(connection, conversation_id=conversation_id, after=after, limit=limit + 1)
    return found[:limit], found[limit - 1].user_id if len(found) > limit else None
