"""Kinds, roles and who may do what. One table for every door."""

from __future__ import annotations

from dataclasses import dataclass
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


def ranks_above(one: Role, other: Role) -> bool:
    """Whether one role may do more than another."""
    return _RANK[one] > _RANK[other]


def may_post(kind: Kind, role: Role | None, *, service: bool = False) -> bool:
    """Whether a member of this role, None for no member, posts in a conversation of this kind."""
    if service:
        return True
    if role is None or role is Role.READER:
        return False
    return role is not Role.WRITER or kind is not Kind.BULLETIN


@dataclass(frozen=True, slots=True)
class Standing:
    """How one caller stands to one conversation.

    `role` is None for someone who is not, or no longer, a member; `service` marks a trusted backend.
    """

    kind: Kind
    visibility: Visibility
    role: Role | None
    service: bool = False

    @property
    def may_see(self) -> bool:
        """Whether the conversation exists for the caller at all; if not, the answer is 404."""
        return self.service or self.role is not None or self.visibility is Visibility.OPEN

    @property
    def may_follow(self) -> bool:
        return self.service or self.role is not None

    @property
    def may_post(self) -> bool:
        return may_post(self.kind, self.role, service=self.service)

    @property
    def may_change(self) -> bool:
        """Change the conversation's own fields, or close it."""
        return self.service or self.role is Role.OWNER

    def may_set_role(self, present: Role | None, wanted: Role | None) -> bool:
        """Add (`present` None), change, or remove (`wanted` None) another member.

        An owner may do all of it; a moderator what touches writers and readers only.
        """
        if self.service or self.role is Role.OWNER:
            return True
        if self.role is not Role.MODERATOR:
            return False
        return all(role is None or _RANK[role] < _RANK[Role.MODERATOR] for role in (present, wanted))


def default_role(kind: Kind) -> Role:
    """The role of a member who joins or is added with none named."""
    return Role.READER if kind is Kind.BULLETIN else Role.WRITER


def direct_pair(one: str, other: str) -> str:
    """What makes a direct conversation unique: its two members in an order of their own."""
    first, second = sorted((one, other))
    return f"{len(first)}:{first}:{second}"
