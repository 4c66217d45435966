"""Pieces of SQL that say one rule each, for the statements that go by it."""

from __future__ import annotations

from nestrel.core import limits
from nestrel.core.roles import RANKED

STILL_KEPT_OUT = "(until IS NULL OR until > clock_timestamp())"
"""Whether a row of `kept_out` holds at this moment."""

SUSPENDED = "suspended AND (suspended_until IS NULL OR suspended_until > clock_timestamp())"
"""Whether somebody is suspended at this moment, of a row of `barred`."""


def kept_out(conversation_id: str, user_id: str) -> str:
    """SQL for whether the owners of a conversation keep somebody out now."""
    return f"""EXISTS (SELECT FROM nestrel.kept_out
    WHERE conversation_id = {conversation_id} AND user_id = {user_id} AND {STILL_KEPT_OUT})"""


def ranked(role: str) -> str:
    """SQL for whether a role is one of those that a change set carries also where members are too many."""
    return f"{role} IN ({', '.join(map(repr, map(str, RANKED)))})"


def crowded(members: str) -> str:
    """SQL for whether so many members are more than change sets carry."""
    return f"{members} > {limits.MEMBERS_CARRIED}"
