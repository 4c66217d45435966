"""How many connections a process lets in each second. What it cannot take is refused early and told when to come
again."""

from __future__ import annotations

import random
import time
from collections.abc import Callable

from nestrel.core.problems import StoreUnavailable, Trouble

_FIRST_GUESS = 500.0
"""Sign-ins a second that a process is taken to manage until it has measured some."""
_SHARE = 0.8
"""Of the processor's time, at most so much is to go into sign-ins."""
_NEW = 0.3
"""How much a new measurement counts beside those before it."""
_ENOUGH = 50
"""So many in a second say what each of them costs."""
_LEAST, _MOST = 50.0, 20_000.0
_QUEUE_SECONDS = 10.0
"""Whoever comes is still let in if they wait no longer than that, which is when a client gives up."""
_DRAIN_SECONDS = 10
_LONGEST_SECONDS = 30


class Shedding:
    """What keeps a process from more upgrades than it can take: above `most` a second, or where that is None above what
    it has measured that it manages; and when there is no memory for many more (`full`)."""

    def __init__(
        self, most: int | None, full: Callable[[], bool], clock: Callable[[], float] = time.monotonic,
        cpu: Callable[[], float] = time.process_time, dice: Callable[[], float] = random.random,
    ) -> None:  # fmt: skip
        self.rate = float(most or _FIRST_GUESS)
        """Sign-ins a second."""
        self._measures = most is None
        self._full = full
        self._clock, self._cpu, self._dice = clock, cpu, dice
        self._room = self._most_room
        self._at = clock()
        self._let_in = 0
        self._shed = 0.0
        self._looked = (self._at, cpu())

    @property
    def _most_room(self) -> float:
        return self.rate * (_QUEUE_SECONDS if self._measures else 1.0)

    def refusal(self, *, draining: bool) -> StoreUnavailable | None:
        """Why nobody gets in now; None lets somebody in. When to come again is spread, so that they do not all come at
        one moment."""
        if draining:
            return self._later("the service is stopping", _DRAIN_SECONDS, Trouble.STOPPING)
        now = self._clock()
        passed, self._at = now - self._at, now
        self._room = min(self._most_room, self._room + passed * self.rate)
        self._shed = max(0.0, self._shed - passed * self.rate)
        if self._full():
            detail = "this process has nearly as many connections as NESTREL_MEMORY is for; try again"
            return self._later(detail, _LONGEST_SECONDS, Trouble.BUSY)
        if self._room < 1:
            self._shed += 1
            detail = f"more come than this process can take: {self.rate:,.0f} a second; try again"
            return self._later(detail, 2 + 2 * self._shed / self.rate, Trouble.BUSY)
        self._room -= 1
        self._let_in += 1
        return None

    def _later(self, detail: str, within: float, reason: Trouble) -> StoreUnavailable:
        seconds = 1 + self._dice() * (min(within, _LONGEST_SECONDS) - 1)
        return StoreUnavailable(detail, retry_after=round(seconds), reason=reason)

    def look(self) -> None:
        """Measure; to be called about once a second."""
        now, cpu = self._clock(), self._cpu()
        seconds, spent = now - self._looked[0], cpu - self._looked[1]
        if seconds < 0.9:
            return
        self._looked = now, cpu
        count, self._let_in = self._let_in, 0
        if self._measures and count >= _ENOUGH * seconds and spent > 0:
            manages = min(max(_SHARE * count / spent, _LEAST), _MOST)
            self.rate += (manages - self.rate) * _NEW
