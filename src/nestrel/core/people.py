"""What keeps a person out of the service or away from another: suspension, sign-out, blocks."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from math import ceil
from typing import Any

from nestrel.core.problems import Forbidden, Problem, Unauthenticated
from nestrel.core.times import format_time


class Profiles(StrEnum):
    """Whose word a profile is."""

    FIRST = "first"
    """A token's, at first sight; from then on its person's."""
    TOKEN = "token"
    """A token's, whenever a newer one says something else."""
    BACKEND = "backend"
    """A trusted backend's alone."""

    def check_own_change(self) -> None:
        """Whether people change their own profile. Raises `Forbidden` where it is said elsewhere."""
        if self is Profiles.TOKEN:
            raise Forbidden("profiles are as tokens say here: change yours where you sign in")
        if self is Profiles.BACKEND:
            raise Forbidden("profiles are put here by a trusted backend: change yours in the application")


@dataclass(frozen=True, slots=True)
class Suspension:
    """Somebody who may do nothing for a while, or for good where there is no `until`."""

    user_id: str
    until: datetime | None
    reason: str | None
    suspended_by: str
    suspended_at: datetime

    def wire(self) -> dict[str, Any]:
        return {
            "user_id": self.user_id,
            "until": None if self.until is None else format_time(self.until),
            "reason": self.reason,
            "suspended_by": self.suspended_by,
            "suspended_at": format_time(self.suspended_at),
        }


@dataclass(frozen=True, slots=True)
class Barred:
    """What is known of someone's right to be here. Times are in seconds since 1970: suspended until then (infinity for
    no end, 0 for not at all), and signed out up to and including `not_before` (-1 for never). The identity that is
    `erased` is nobody's."""

    suspended_until: float = 0.0
    not_before: float = -1.0
    erased: bool = False

    @property
    def nothing(self) -> bool:
        return self == FREE

    def refusal(self, issued_at: float | None, now: float) -> Problem | None:
        """Why a token that was issued then is not taken now; None if it is. `iat` counts in whole seconds, so what was
        issued in the second of the sign-out is before it."""
        if self.erased:
            return Unauthenticated("this identity was erased; sign in as somebody else")
        if self.suspended_until > now:
            left = self.suspended_until - now
            if left == float("inf"):
                return Forbidden("you are suspended")
            return Forbidden(f"you are suspended for {ceil(left):,} s more", retry_after=ceil(left))
        if self.not_before >= 0 and (issued_at is None or issued_at // 1 <= self.not_before):
            return Unauthenticated("you have been signed out; get a new token")
        return None


FREE = Barred()
