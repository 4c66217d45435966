"""A limit on commands for each member: a bucket that holds a minute's worth and fills steadily."""

from __future__ import annotations

from nestrel.core.problems import SlowDown


class RateLimit:
    """At most `per_minute` commands a minute for each member, in one process. Time comes in, in seconds."""

    def __init__(self, per_minute: int) -> None:
        self._per_second = per_minute / 60
        self._most = float(per_minute)
        self._buckets: dict[str, tuple[float, float]] = {}

    def take(self, member: str, now: float) -> None:
        """Count one command. Raises `SlowDown` when the member has none left."""
        left, at = self._buckets.get(member, (self._most, now))
        left = min(self._most, left + (now - at) * self._per_second)
        if left < 1:
            self._buckets[member] = (left, now)
            wait = (1 - left) / self._per_second
            raise SlowDown(
                f"at most {int(self._most)} commands a minute; wait {wait:.0f} s",
                retry_after=max(1, round(wait)),
            )
        if len(self._buckets) > 100_000:
            self._forget(now)
        self._buckets[member] = (left - 1, now)

    def _forget(self, now: float) -> None:
        """Drop the buckets that are full again by now: they say nothing."""
        for member, (left, at) in list(self._buckets.items()):
            if left + (now - at) * self._per_second >= self._most:
                del self._buckets[member]
