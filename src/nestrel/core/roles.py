"""Kinds, visibility and roles of conversations."""

from __future__ import annotations

from enum import StrEnum


class Kind(StrEnum):
    GROUP = "group"
    DIRECT = "direct"
    BULLETIN = "bulletin"


class Visibility(StrEnum):
    OPEN = "open"
    CLOSED = "closed"


class Role(StrEnum):
    OWNER = "owner"
    MODERATOR = "moderator"
    WRITER = "writer"
    READER = "reader"


_RANK = {Role.READER: 0, Role.WRITER: 1, Role.MODERATOR: 2, Role.OWNER: 3}


RANKED = (Role.OWNER, Role.MODERATOR)
"""Those who judge others. A change set carries them also where members are too many for it."""


def ranks_above(one: Role, other: Role) -> bool:
    """Whether one role may do more than another."""
    return _RANK[one] > _RANK[other]


def default_role(kind: Kind) -> Role:
    """The role of a member who joins or is added with none named."""
    return Role.READER if kind is Kind.BULLETIN else Role.WRITER


def maker_role(kind: Kind) -> Role:
    """The role of who makes a conversation: its owner, but the two of a direct one are equals."""
    return default_role(kind) if kind is Kind.DIRECT else Role.OWNER


def direct_pair(one: str, other: str) -> str:
    """What makes a direct conversation unique: its two members in an order of their own."""
    first, second = sorted((one, other))
    return f"{len(first)}:{first}:{second}"
