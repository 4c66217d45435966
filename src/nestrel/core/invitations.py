"""Decisions on invitations: who may make one, for which role, and when one is used up or expired."""

from __future__ import annotations

import hashlib
import re
from dataclasses import dataclass
from datetime import datetime
from secrets import token_urlsafe
from typing import Any
from uuid import UUID

from nestrel.core.problems import Expired, Forbidden, NotFound, invalid
from nestrel.core.rights import Relation
from nestrel.core.roles import Kind, Role, default_role, ranks_above
from nestrel.core.times import format_time

_TOKEN = re.compile(r"[A-Za-z0-9_-]{43}")


@dataclass(frozen=True, slots=True)
class Invitation:
    """What lets who has its token join, with that role, so often and until then. `ended`: its maker may not make it any
    more, or it was revoked; that does not come back."""

    id: UUID
    conversation_id: UUID
    role: Role
    uses_left: int | None
    expires_at: datetime | None
    created_by: str
    created_at: datetime

    def wire(self) -> dict[str, Any]:
        return {
            "invitation_id": str(self.id),
            "role": self.role.value,
            "uses_left": self.uses_left,
            "expires_at": None if self.expires_at is None else format_time(self.expires_at),
            "created_by": self.created_by,
            "created_at": format_time(self.created_at),
        }

    def check_open(self, now: datetime) -> None:
        """Raises `Expired` where nobody joins with it any more."""
        if self.expires_at is not None and self.expires_at <= now:
            raise Expired("this invitation's time is over; ask for a new one")
        if self.uses_left == 0:
            raise Expired("this invitation has been used as often as it may be; ask for a new one")


def role_to_invite(standing: Relation, wanted: Role | None) -> Role:
    """The role that an invitation gives.

    Raises:
        InvalidRequest: a direct conversation has its two members.
        Forbidden: it is a role above their own, or above writer where they are no owner.
    """
    if standing.kind is Kind.DIRECT:
        raise invalid("", "a direct conversation has exactly its two members")
    role = wanted or default_role(standing.kind)
    if not standing.service and standing.role is not None and ranks_above(role, standing.role):
        raise Forbidden(f"your role is {standing.role}; you invite to no higher one")
    # Whoever has such a token is nobody's choice: a moderator would make moderators without number.
    if ranks_above(role, Role.WRITER) and not standing.service and standing.role is not Role.OWNER:
        raise Forbidden(f"only an owner invites to {role}")
    return role


def lost_by(role: Role | None) -> list[Role]:
    """The roles to which somebody who has this one by now may not invite any more: invitations of theirs to those
    end."""
    if role not in (Role.OWNER, Role.MODERATOR):
        return list(Role)
    return [] if role is Role.OWNER else [one for one in Role if ranks_above(one, Role.WRITER)]


def new_token() -> str:
    """What nobody guesses, of 43 letters, digits, - and _. It begins with no hyphen: as an argument of a command it
    would be taken for an option."""
    while (made := token_urlsafe(32)).startswith("-"):
        pass
    return made


def hash_of(token: str) -> bytes:
    """What is kept of a token: who reads the database joins nothing by it.

    Raises:
        NotFound: it is no token.
    """
    if not _TOKEN.fullmatch(token):
        raise unknown()
    return hashlib.sha256(token.encode()).digest()


def unknown() -> NotFound:
    return NotFound("there is no such invitation, or it has been taken back")
