"""How much a member may have, and whom they may add. Quotas do not bind a backend, but it may add known people only."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import StrEnum

from nestrel.core.problems import Forbidden, OverQuota


class Adding(StrEnum):
    """Whom a member may add to a conversation: anyone, those with whom they are in a direct or a closed group, or
    nobody, as backends do that."""

    ANYONE = "anyone"
    ACQUAINTED = "acquainted"
    BACKEND = "backend"


@dataclass(frozen=True, slots=True)
class Quotas:
    """Limits of members; 0 turns one off. `conversations` and `additions` (of people not acquainted) are for a day of
    UTC, `members` is for one conversation, `memberships` for one member. `members_make` and `adding` say who may at
    all. With `only_known` nobody becomes a member who was never here; a backend is bound by that, too."""

    conversations: int = 10_000
    additions: int = 5_000
    members: int = 10_000
    memberships: int = 10_000
    members_make: bool = True
    adding: Adding = Adding.ANYONE
    only_known: bool = False


DEFAULT_QUOTAS = Quotas()


def over(quota: str, limit: int, detail: str, *, now: datetime | None = None) -> OverQuota:
    """A quota is used up; with `now`, a quota of the day, which the next one cures."""
    retry_after = None
    if now is not None:
        midnight = (now.astimezone(UTC) + timedelta(days=1)).replace(hour=0, minute=0, second=0, microsecond=0)
        retry_after = max(1, int((midnight - now).total_seconds()) + 1)
    return OverQuota(detail, extra={"quota": quota, "limit": limit}, retry_after=retry_after)


def cannot_add() -> Forbidden:
    """Why somebody is not added: the same to the byte whether they have blocked the caller, are not acquainted with
    them, or only backends add people. Nobody learns by it who has blocked them."""
    return Forbidden("you may not add this person; a trusted backend can")
