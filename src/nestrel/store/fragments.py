"""Pieces of SQL that say one rule each, for the statements that go by it."""

from __future__ import annotations

import sqlalchemy as sa

from nestrel.core import limits
from nestrel.core.roles import RANKED
from nestrel.store.composed import written
from nestrel.store.tables.base import NOW
from nestrel.store.tables.conversations import conversations, members
from nestrel.store.tables.conversations import kept_out as kept_out_table
from nestrel.store.tables.people import barred

KEPT_OUT_STILL = sa.or_(kept_out_table.c.until.is_(None), kept_out_table.c.until > NOW)
STILL_KEPT_OUT = f"({written(KEPT_OUT_STILL)})"
"""Whether a row of `kept_out` holds at this moment, as an expression and as text."""

IS_SUSPENDED = sa.and_(barred.c.suspended, sa.or_(barred.c.suspended_until.is_(None), barred.c.suspended_until > NOW))
SUSPENDED = written(IS_SUSPENDED)
"""Whether somebody is suspended at this moment, of a row of `barred`; likewise."""

MEMBER_NOW = sa.and_(
    members.c.conversation_id == conversations.c.id,
    members.c.user_id == sa.bindparam("user_id"),
    members.c.left_at.is_(None),
)
"""Joins the member row of the person `user_id` to a conversation, where they are a member of it now."""


def kept_out(conversation_id: str, user_id: str) -> str:
    """SQL for whether the owners of a conversation keep somebody out now."""
    return f"""EXISTS (SELECT FROM nestrel.kept_out
    WHERE conversation_id = {conversation_id} AND user_id = {user_id} AND {STILL_KEPT_OUT})"""


def ranked(role: str) -> str:
    """SQL for whether a role is one of those that a change set carries also where members are too many."""
    return f"{role} IN ({', '.join(map(repr, map(str, RANKED)))})"


def is_ranked(role: sa.ColumnElement[str]) -> sa.ColumnElement[bool]:
    """The same as an expression."""
    return sa.or_(*(role == one.value for one in RANKED))


def crowded(members: str) -> str:
    """SQL for whether so many members are more than change sets carry."""
    return f"{members} > {limits.MEMBERS_CARRIED}"
