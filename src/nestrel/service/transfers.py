"""Uploads and downloads under way in one process: a share for each person and each link. When all places are taken, the
slowest transfer is ended."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from nestrel.core import limits
from nestrel.core.problems import Problem, SlowDown
from nestrel.service import metrics

_YOUNG_SECONDS = 5.0
"""Before that nobody is slow."""
_SLOW_BYTES = 128 * 1024
"""Bytes a second below which a transfer makes room for another."""


class Transfer:
    """One file on its way. `moved` is told of bytes as they go; `cut` ends it."""

    def __init__(self, cut: Callable[[Problem], object], clock: Callable[[], float]) -> None:
        self.cut = cut
        self._clock = clock
        self._began = clock()
        self._bytes = 0

    def moved(self, size: int) -> None:
        self._bytes += size

    @property
    def age(self) -> float:
        return self._clock() - self._began

    @property
    def rate(self) -> float:
        """Bytes a second since it began."""
        return self._bytes / max(self.age, 0.001)


class Transfers:
    """The files on their way, at most `most`."""

    def __init__(self, most: int = limits.TRANSFERS, clock: Callable[[], float] = time.monotonic) -> None:
        self._most = most
        self._clock = clock
        self._there: set[Transfer] = set()
        self._of: Counter[str] = Counter()

    @contextmanager
    def turn(self, of: str, share: int | None, cut: Callable[[Problem], object]) -> Iterator[Transfer]:
        """A place for one of somebody's, or of a link; None sets no share. Raises `SlowDown`."""
        if share is not None and self._of[of] >= share:
            raise SlowDown(f"at most {share} of your files come or go at one time", retry_after=2)
        if len(self._there) >= self._most:
            self._make_room()
        transfer = Transfer(cut, self._clock)
        self._there.add(transfer)
        self._of[of] += 1
        try:
            yield transfer
        finally:
            self._there.discard(transfer)
            self._of[of] -= 1
            if not self._of[of]:
                del self._of[of]

    def _make_room(self) -> None:
        old = [one for one in self._there if one.age > _YOUNG_SECONDS]
        slowest = min(old, key=lambda one: one.rate, default=None)
        if slowest is None or slowest.rate >= _SLOW_BYTES:
            raise SlowDown("as many files come and go as this process takes; try again", retry_after=2)
        self._there.discard(slowest)  # its place is another's from now on, whenever it has ended
        metrics.TRANSFERS_CUT.inc()
        slowest.cut(SlowDown("this file moved more slowly than others that wait; try again", retry_after=5))
