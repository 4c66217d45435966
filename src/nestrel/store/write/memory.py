"""What a process has just written, it knows: facts about a conversation's authors that no other row can have changed
while its `rev` stands where this process left it.

Only what is written under the conversation's lock and with a new `rev` is remembered: an author's role, the ordinal of
their newest message, and the profile that members were last told of here. That somebody is no member, or has no
profile, is never remembered. What the clock or another table decides is asked each time.
"""

from __future__ import annotations

import time
from collections import OrderedDict
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from nestrel.core import limits
from nestrel.core.locked import Locked
from nestrel.core.roles import Role

Profile = tuple[str, str | None, int]

_DOUBT_SECONDS = 600.0
"""For so long whoever repeated a key has their keys looked up first."""
_ALL_DOUBT_SECONDS = 1.0
"""For so long everyone has, after a collision: where one comes back with what was on its way, more do."""
_DOUBTED = 10_000


class Author(NamedTuple):
    """A member who posts: `ordinal` is that of their newest message. `profile` is None where it is not known."""

    role: Role
    ordinal: int
    profile: Profile | None


class _Place:
    __slots__ = ("authors", "left")

    def __init__(self, left: Locked) -> None:
        self.left = left
        """The conversation as it stood when it was last written to here."""
        self.authors: dict[str, Author] = {}


_NOBODY: Mapping[str, Author] = {}


class Memory:
    """The authors of the conversations that were written to last, within a bound of authors."""

    def __init__(self, most: int = limits.AUTHORS_REMEMBERED) -> None:
        self._most = most
        self._places: OrderedDict[int, _Place] = OrderedDict()
        self._size = 0
        self._doubted: OrderedDict[str, float] = OrderedDict()
        self._all_doubted = 0.0

    def authors(self, place: Locked) -> Mapping[str, Author]:
        """What is known of a conversation's authors as it stands under its lock, before anything is written."""
        held = self._held(place)
        return held.authors if held is not None else _NOBODY

    def _held(self, place: Locked) -> _Place | None:
        held = self._places.get(place.id.int)
        if held is None or held.left.rev != place.rev_before or held.left.epoch != place.epoch:
            return None
        return held

    def place(self, number: int) -> Locked | None:
        """A conversation as this process left it, by the number of its id. Whether it still stands so its `rev`, its
        guard and the epoch say, in the statement that writes."""
        held = self._places.get(number)
        return held.left.as_left() if held is not None else None

    def keep(self, place: Locked, learned: Mapping[str, Author]) -> None:
        """A transaction has committed that left a conversation so. `learned` are the authors who posted, or were
        asked about; whatever was known of the others holds, as the transaction was this process's own."""
        place.counts.clear()
        place.keys.clear()
        held = self._held(place)
        if held is None:
            before = self._places.pop(place.id.int, None)
            self._size -= len(before.authors) if before is not None else 0
            held = self._places[place.id.int] = _Place(place)
        else:
            self._places.move_to_end(place.id.int)
            held.left = place
        self._size -= len(held.authors)
        held.authors.update(learned)
        self._size += len(held.authors)
        while self._size > self._most:
            self._size -= len(self._places.popitem(last=False)[1].authors)

    # Keys

    def doubts(self, author_id: str) -> bool:
        """Whether an author's keys are to be looked up: they, or anyone a moment ago, have used one again."""
        if not self._doubted and not self._all_doubted:
            return False
        now = time.monotonic()
        return now < self._all_doubted or now < self._doubted.get(author_id, 0.0)

    def doubt(self, authors: Iterable[str]) -> None:
        """They have used a key again."""
        until = time.monotonic() + _DOUBT_SECONDS
        for author_id in authors:
            self._doubted[author_id] = until
            self._doubted.move_to_end(author_id)
        while len(self._doubted) > _DOUBTED:
            self._doubted.popitem(last=False)

    def collided(self) -> None:
        """A key that was taken for a new one was not."""
        self._all_doubted = time.monotonic() + _ALL_DOUBT_SECONDS
