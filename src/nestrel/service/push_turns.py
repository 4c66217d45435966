"""Which push services answer, and how many requests may be waited for beside the rest: a share for each service and for
each person, so that devices whose services never answer keep nobody else's notices back."""

from __future__ import annotations

from collections import Counter, OrderedDict

_GOOD_SECONDS = 3_600.0
"""Who has answered within so long is waited for with all others, for a moment."""
_FAILED_SECONDS = 60.0
_OF_FAILED = 1
"""So many requests to one that has failed lately find out whether it is back."""
_OF_ONE = 20
_OF_PERSON = 5
_ALL = 150
_KNOWN = 5_000


class Turns:
    """The push services by their origins, as this process has met them. Times are in seconds of one clock."""

    def __init__(self) -> None:
        self._answered: OrderedDict[str, float] = OrderedDict()
        self._failed: OrderedDict[str, float] = OrderedDict()
        self._of_origin: Counter[str] = Counter()
        self._of_person: Counter[str] = Counter()

    def is_good(self, origin: str, now: float) -> bool:
        """Whether a service is known to answer."""
        if self.has_failed(origin, now):
            return False
        return now - self._answered.get(origin, float("-inf")) < _GOOD_SECONDS

    def has_failed(self, origin: str, now: float) -> bool:
        """Whether a service did not answer lately, and has not since."""
        return now - self._failed.get(origin, float("-inf")) < _FAILED_SECONDS

    def answered(self, origin: str, now: float) -> None:
        self._failed.pop(origin, None)
        _note(self._answered, origin, now)

    def failed(self, origin: str, now: float) -> None:
        _note(self._failed, origin, now)

    def take(self, origin: str, user_id: str, now: float) -> bool:
        """Take a turn beside the rest; False where the shares are used up."""
        share = _OF_FAILED if self.has_failed(origin, now) else _OF_ONE
        full = self._of_origin[origin] >= share or self._of_person[user_id] >= _OF_PERSON
        if full or self._of_origin.total() >= _ALL:
            return False
        self.move(origin, user_id)
        return True

    def move(self, origin: str, user_id: str) -> None:
        """One that was waited for with the others is slow, and goes on beside them, whatever the shares are."""
        self._of_origin[origin] += 1
        self._of_person[user_id] += 1

    def leave(self, origin: str, user_id: str) -> None:
        """Give a turn back."""
        for counts, key in ((self._of_origin, origin), (self._of_person, user_id)):
            counts[key] -= 1
            if not counts[key]:
                del counts[key]


def _note(times: OrderedDict[str, float], origin: str, now: float) -> None:
    times[origin] = now
    times.move_to_end(origin)
    if len(times) > _KNOWN:
        times.popitem(last=False)
