"""What a member wants to be told of in a conversation. Only they may set it and see it."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import insert

from nestrel.core.callers import Caller
from nestrel.core.problems import Forbidden, NotFound
from nestrel.core.rights import Action
from nestrel.store.access import see
from nestrel.store.composed import Query, only
from nestrel.store.database import Database
from nestrel.store.tables.base import Moment
from nestrel.store.tables.conversations import members
from nestrel.store.tables.people import notice_preferences

# Only what is given is changed; and nothing where somebody has left meanwhile.
_PREFERENCE = insert(notice_preferences).from_select(
    ["conversation_id", "user_id", "notify", "notify_after"],
    sa.select(
        members.c.conversation_id,
        members.c.user_id,
        sa.bindparam("notify", type_=sa.Text),
        sa.bindparam("after", type_=Moment),
    ).where(
        members.c.conversation_id == sa.bindparam("conversation_id"),
        members.c.user_id == sa.bindparam("user_id"),
        members.c.left_at.is_(None),
    ),
)
PREFER = Query(
    _PREFERENCE.on_conflict_do_update(
        index_elements=[notice_preferences.c.conversation_id, notice_preferences.c.user_id],
        set_={
            name: sa.case(
                (sa.bindparam(f"{name}_given", type_=sa.Boolean), _PREFERENCE.excluded[name]),
                else_=notice_preferences.c[name],
            )
            for name in ("notify", "notify_after")
        },
    ).returning(notice_preferences.c.user_id),
    only,
)


async def prefer(
    database: Database, caller: Caller, conversation_id: UUID, user_id: str, wanted: Mapping[str, Any]
) -> None:
    """Say what one wants to be told of (`notify`), and from when on (`notify_after`; None for at once); what is not
    given stays. It takes no `rev`, and nobody is told of it.

    Raises:
        NotFound: it does not exist, or the caller may not know of it, or is no member.
        Forbidden: as `NotFound` of an open one; also for somebody else.
    """
    async with database.write() as connection:
        await see(connection, conversation_id, caller, Action.HIDE)
        if user_id != caller.user_id:
            raise Forbidden("everyone says for themselves alone what they are told of")
        kept = await PREFER.fetch(
            connection, conversation_id=conversation_id, user_id=user_id, notify=wanted.get("notify"),
            after=wanted.get("notify_after"), notify_given="notify" in wanted,
            notify_after_given="notify_after" in wanted,
        )  # fmt: skip
        if not kept:
            raise NotFound("only a member is told of what is posted; join it first")
