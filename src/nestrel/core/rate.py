"""Limits on how much somebody does in a minute, over all processes of a service. Time comes in, in seconds.

What counts is kept in one place that all processes share (`Asked`, `Told`), in slots of a second each,
sixty and the one in which they began. A process
that knows that there is much left goes on by itself, and tells of it once a second: so a member who does what people do
costs nobody a question. Nearer to the limit it asks before each. All processes together keep back no more than a fifth
of a limit, so in no minute is more let through than 1.2 times as much.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from math import ceil
from typing import NamedTuple

from nestrel.core.problems import SlowDown

WINDOW = 60
_BACK = 0.18
_UNCOUNTED = 64
"""For so many processes one keeps back too little while it does not know how many there are."""
_KNOWN = 100_000


@dataclass(frozen=True, slots=True)
class Policy:
    """A limit by its name on the wire: so many of what it counts (`of`) in a minute."""

    name: str
    limit: int
    of: str


class RateRequest(NamedTuple):
    """What one process asks of the shared count: `done` is what has happened and is counted in any case, `wanted` what
    shall happen if there is room."""

    policy: Policy
    key: str
    done: int
    wanted: int


class RateAnswer(NamedTuple):
    """The answer: whether what was wanted may happen, how much is left after it, and how many seconds until all is
    free again, or until there is room for what was refused."""

    granted: bool
    left: int
    seconds: int


class Left(NamedTuple):
    """What an answer's headers say of a policy: how much is left, and for how many seconds that is what is known."""

    policy: Policy
    left: int
    seconds: int


class _Count:
    """What a process knows of one member or address."""

    __slots__ = ("at", "left", "shut_until", "until", "untold")

    def __init__(self, limit: int) -> None:
        self.left = limit
        self.untold = 0
        self.at = 0.0
        self.until = 0.0
        self.shut_until = 0.0


class Rates:
    """The counts of one process. `processes` is how many share the limits; 0 while that is not known."""

    def __init__(self) -> None:
        self.processes = 0
        self._counts: dict[tuple[str, str], _Count] = {}

    def passes(self, policy: Policy, key: str, n: int, now: float) -> bool:
        """Count `n` if it can be done without a question; False if the shared count has to be asked.

        Raises:
            SlowDown: it is known already that there is no room.
        """
        count = self._counts.get((policy.name, key))
        if count is None:
            if len(self._counts) >= _KNOWN:
                self._forget(now)
            count = self._counts[policy.name, key] = _Count(policy.limit)
        if n == 1 and count.shut_until > now:
            raise refusal(policy, ceil(count.shut_until - now))
        kept_back = int(policy.limit * _BACK / (self.processes or _UNCOUNTED))
        if count.untold + n > kept_back or count.left - count.untold - n < 0:
            return False
        count.untold += n
        if count.until <= now:
            count.until = now + WINDOW
        count.at = now
        return True

    def asks(self, policy: Policy, key: str, n: int) -> RateRequest:
        """The question whether `n` more may happen; what was not told of goes with it."""
        count = self._counts[policy.name, key]
        done, count.untold = count.untold, 0
        return RateRequest(policy, key, done, n)

    def heard(self, asked: RateRequest, told: RateAnswer, now: float) -> None:
        """Note an answer.

        Raises:
            SlowDown: it was a refusal.
        """
        count = self._counts.setdefault((asked.policy.name, asked.key), _Count(asked.policy.limit))
        count.left, count.at = told.left, now
        if told.granted:
            count.until = now + told.seconds
            return
        if asked.wanted == 1:
            count.shut_until = now + told.seconds
        raise refusal(asked.policy, told.seconds, asked.wanted)

    def unheard(self, asked: RateRequest) -> None:
        """There was no answer: what has happened is told of another time, and what was wanted happens, within what one
        process may do alone."""
        count = self._counts.setdefault((asked.policy.name, asked.key), _Count(asked.policy.limit))
        count.untold += asked.done + asked.wanted
        if count.untold > asked.policy.limit:
            raise refusal(asked.policy, WINDOW)

    def untold(self, policies: dict[str, Policy], now: float) -> Iterator[RateRequest]:
        """What is to be told of; what says nothing any more is forgotten."""
        for (name, key), count in tuple(self._counts.items()):
            if count.untold:
                yield self.asks(policies[name], key, 0)
            elif now - count.at > WINDOW and count.shut_until <= now:
                del self._counts[name, key]

    def left(self, policy: Policy, key: str, now: float) -> Left:
        """What is known to be left."""
        count = self._counts.get((policy.name, key))
        if count is None:
            return Left(policy, policy.limit, 0)
        if count.shut_until > now:
            return Left(policy, 0, ceil(count.shut_until - now))
        return Left(policy, max(0, count.left - count.untold), max(0, ceil(count.until - now)))

    def _forget(self, now: float) -> None:
        for known, count in tuple(self._counts.items()):
            if not count.untold and count.shut_until <= now:
                del self._counts[known]


def refusal(policy: Policy, seconds: int, n: int = 1) -> SlowDown:
    """What is said to whom does too much."""
    if n > policy.limit:
        return SlowDown(
            f"at most {policy.limit:,} {policy.of} a minute; these are {n:,} at once, so send fewer", retry_after=WINDOW
        )
    seconds = max(1, seconds)
    return SlowDown(f"at most {policy.limit:,} {policy.of} a minute; wait {seconds} s", retry_after=seconds)


def headers(left: list[Left]) -> list[tuple[bytes, bytes]]:
    """What an answer says of the limits that it was counted against: `RateLimit-Policy` and `RateLimit`, as the IETF's
    draft on rate limit header fields has them (structured fields, RFC 9651)."""
    if not left:
        return []
    policies = ", ".join(f'"{one.policy.name}";q={one.policy.limit};w={WINDOW}' for one in left)
    states = ", ".join(f'"{one.policy.name}";r={one.left};t={one.seconds}' for one in left)
    return [(b"ratelimit-policy", policies.encode()), (b"ratelimit", states.encode())]
