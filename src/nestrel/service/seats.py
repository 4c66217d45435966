"""How many connections each member has, so that one cannot take those of all."""

from __future__ import annotations

from collections import Counter

from nestrel.core.problems import OverQuota


class Seats:
    """Open sockets and streams by member, in one process. `most` 0 sets no limit."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._taken: Counter[str] = Counter()

    def check(self, user_id: str) -> None:
        """Raises `OverQuota` if there is no room for one more."""
        if self._most and self._taken[user_id] >= self._most:
            raise OverQuota(
                f"you have {self._most:,} connections, which is as many as are allowed; close one first",
                extra={"quota": "connections", "limit": self._most},
            )

    def take(self, user_id: str) -> None:
        """Count one more. Raises `OverQuota` for one too many."""
        self.check(user_id)
        self._taken[user_id] += 1

    def leave(self, user_id: str) -> None:
        """One has ended."""
        self._taken[user_id] -= 1
        if self._taken[user_id] <= 0:
            del self._taken[user_id]
