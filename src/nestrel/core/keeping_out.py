"""Decisions on keeping people out of a conversation."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from nestrel.core.problems import Forbidden, invalid
from nestrel.core.rights import Relation
from nestrel.core.roles import Kind, Role, ranks_above
from nestrel.core.times import format_time


@dataclass(frozen=True, slots=True)
class KeptOut:
    """Somebody whom the owners of a conversation keep out of it, for ever where there is no `until`."""

    user_id: str
    until: datetime | None
    reason: str | None
    kept_out_by: str
    kept_out_at: datetime

    def wire(self) -> dict[str, Any]:
        return {
            "user_id": self.user_id,
            "until": None if self.until is None else format_time(self.until),
            "reason": self.reason,
            "kept_out_by": self.kept_out_by,
            "kept_out_at": format_time(self.kept_out_at),
        }


def check_kind(standing: Relation) -> None:
    """Raises `InvalidRequest` for a direct conversation, which has its two members."""
    if standing.kind is Kind.DIRECT:
        raise invalid("", "nobody is kept out of a direct conversation; block the other, or hide it")


def check_target(standing: Relation, present: Role | None, owners: int, members: int, *, own: bool) -> None:
    """Whether the caller may keep out who has the role `present`, None for no member.

    Raises:
        Forbidden: it is the caller, somebody of an equal or a higher role, or the last owner of others.
    """
    if own:
        raise Forbidden("you cannot keep yourself out; leave instead")
    if present is None:
        return
    if not standing.service and (standing.role is None or not ranks_above(standing.role, present)):
        raise Forbidden(f"your role does not let you keep out a member who is {present}")
    if present is Role.OWNER and owners == 1 and members > 1:
        raise Forbidden("the last owner cannot be kept out; make someone else an owner first, or close it")
