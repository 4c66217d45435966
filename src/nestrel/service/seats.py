"""The connections of a process by person: one member cannot take the room of all, and all together take no more than
there is memory for."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from datetime import datetime
from typing import Protocol

from nestrel.core.problems import OverQuota, StoreUnavailable, Trouble
from nestrel.core.quotas import over
from nestrel.live.following import Following
from nestrel.store.write.connections import Open


class Seat(Protocol):
    """An open socket or stream. `id` is what it is called in lists, `kind` says which it is."""

    id: str
    kind: str
    since: datetime

    @property
    def following(self) -> Following: ...

    def close(self, code: int, reason: str) -> None: ...


class Seats:
    """The open sockets and streams of one process. `most` 0 sets no limit for a member; `full` says whether there is no
    memory for one more of anyone's."""

    def __init__(self, most: int, full: Callable[[], bool] = lambda: False) -> None:
        self.most = most
        self._full = full
        self._seats: dict[str, tuple[str, Seat]] = {}
        self._of_each: Counter[str] = Counter()
        self.leaving: Callable[[str, int, int], None] | None = None
        """Hears of each that ends: whose it is, how many they had, and how many all had."""

    @property
    def taken(self) -> int:
        return len(self._seats)

    @property
    def of_each(self) -> Mapping[str, int]:
        """How many each member has who has any."""
        return self._of_each

    def check(self, user_id: str, *, elsewhere: int = 0, service: bool = False) -> None:
        """Raises `OverQuota` if the member has no room for one more, with those `elsewhere`, `StoreUnavailable` if the
        process has none."""
        if self._full():
            detail = "this process has as many connections as NESTREL_MEMORY is for; try again"
            raise StoreUnavailable(detail, retry_after=5, reason=Trouble.BUSY)
        if self.most and not service and self._of_each[user_id] + elsewhere >= self.most:
            raise _too_many(self.most)

    def take(self, user_id: str, seat: Seat, *, service: bool = False) -> None:
        """Have one more; raises as `check`."""
        self.check(user_id, service=service)
        self._seats[seat.id] = (user_id, seat)
        self._of_each[user_id] += 1

    def leave(self, seat: Seat) -> None:
        """One has ended."""
        user_id, _ = self._seats[seat.id]
        if self.leaving is not None:
            self.leaving(user_id, self._of_each[user_id], len(self._seats))
        del self._seats[seat.id]
        self._of_each[user_id] -= 1
        if self._of_each[user_id] <= 0:
            del self._of_each[user_id]

    def listed(self) -> Iterator[Open]:
        """All of them, as they are listed."""
        for id_, (user_id, seat) in self._seats.items():
            following = seat.following
            yield Open(id_, user_id, seat.since, seat.kind, len(following.follows), following.behind)

    def end(self, id_: str, code: int, reason: str) -> None:
        """End one, if it is here."""
        found = self._seats.get(id_)
        if found is not None:
            found[1].close(code, reason)


def _too_many(most: int) -> OverQuota:
    return over("connections", most, f"you have {most:,} connections, which is as many as are allowed; close one first")
