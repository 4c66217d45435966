"""How many connections there are, and each member has: one cannot take those of all, and all not more than there is
memory for."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable

from nestrel.core.problems import OverQuota, StoreUnavailable, Trouble


class Seats:
    """Open sockets and streams by member, in one process. `most` 0 sets no limit for a member; `full` says whether
    there is no memory for one more of anyone's."""

    def __init__(self, most: int, full: Callable[[], bool] = lambda: False) -> None:
        self._most = most
        self._full = full
        self.taken = 0
        self._taken: Counter[str] = Counter()

    def check(self, user_id: str) -> None:
        """Raises `OverQuota` if the member has no room for one more, `StoreUnavailable` if the process has none."""
        if self._full():
            detail = "this process has as many connections as NESTREL_MEMORY is for; try again"
            raise StoreUnavailable(detail, retry_after=5, reason=Trouble.BUSY)
        if self._most and self._taken[user_id] >= self._most:
            raise OverQuota(
                f"you have {self._most:,} connections, which is as many as are allowed; close one first",
                extra={"quota": "connections", "limit": self._most},
            )

    def take(self, user_id: str) -> None:
        """Count one more; raises as `check`."""
        self.check(user_id)
        self._taken[user_id] += 1
        self.taken += 1

    def leave(self, user_id: str) -> None:
        """One has ended."""
        self._taken[user_id] -= 1
        self.taken -= 1
        if self._taken[user_id] <= 0:
            del self._taken[user_id]
