"""Receipts in a crowd: where many members read one conversation at a time, their receipts are gathered for a moment,
so that they cost posts little and followers one change set instead of hundreds."""

from __future__ import annotations

import asyncio
import time
from collections import OrderedDict, deque
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, TypeVar

from nestrel.core.commands import Command, Post, Read

if TYPE_CHECKING:
    from nestrel.store.write.answers import Written

Noted = TypeVar("Noted")

Answered = Callable[["list[Written] | Exception"], None]
"""Gets the answers of a unit once they are durable, or what refused it."""

Unit = tuple[Sequence[Command], Answered]

GATHERED_SECONDS = 0.25
"""How long a receipt of a crowd waits at most for others, before its turn to be written."""
_CROWD = 8
"""So many receipts of one conversation within that time are a crowd; fewer are written at once."""
_BESIDE_SECONDS = 1.0
"""For so long after a post a crowd is in the way of others. Where nobody posts, its receipts go by the hundred into
each transaction anyway."""
_PORTION = 32
"""Receipts that go into one transaction, which posts wait for; the next ones go behind the posts that wait then."""
_WATCHED = 10_000
"""Conversations whose posts are seen and whose receipts are counted; of more, the others are taken to be quiet."""


def _note(noted: OrderedDict[int, Noted], place: int, value: Noted) -> None:
    noted[place] = value
    noted.move_to_end(place)
    if len(noted) > _WATCHED:
        noted.popitem(last=False)


class Crowds:
    """Holds back receipts of crowded conversations; `write` takes those whose turn has come."""

    def __init__(self, write: Callable[[Sequence[Unit]], None]) -> None:
        self._write = write
        self._counts: OrderedDict[int, tuple[float, int]] = OrderedDict()
        self._posts: OrderedDict[int, float] = OrderedDict()
        self._held: dict[int, list[Unit]] = {}
        self._due: dict[int, deque[Unit]] = {}
        """What has waited long enough, of conversations of which a portion is being written."""

    def take(self, unit: Sequence[Command], answered: Answered) -> bool:
        """Gather a unit, if it is a receipt of a crowd; False for everything else, which goes its way at once, behind
        what is held of its member."""
        first = unit[0]
        place = first.conversation_id.int
        if isinstance(first, Post):
            _note(self._posts, place, time.monotonic())
        if not isinstance(first, Read):
            self._release(place, first.author_id if isinstance(first, Post) else first.user_id)
            return False
        crowded, waiting = self._crowded(place), place in self._held or place in self._due
        if not self._beside_posts(place):
            if waiting:
                self._hand_on(place)
            return False
        if not crowded and not waiting:
            return False
        held = self._held.get(place)
        if held is not None:
            held.append((unit, answered))
            return True
        self._held[place] = [(unit, answered)]
        asyncio.get_running_loop().call_later(GATHERED_SECONDS, self._over, place)
        return True

    def _release(self, place: int, user: str) -> None:
        """Hand on what is held of a member who goes on to something else: their commands keep their order."""
        for gathered in (self._due.get(place), self._held.get(place)):
            theirs = [unit for unit in gathered or () if isinstance(unit[0][0], Read) and unit[0][0].user_id == user]
            if gathered is not None and theirs:
                for unit in theirs:
                    gathered.remove(unit)
                self._write(theirs)

    def _crowded(self, place: int) -> bool:
        now = time.monotonic()
        since, count = self._counts.get(place, (now, 0))
        if now - since > GATHERED_SECONDS:
            since, count = now, 0
        _note(self._counts, place, (since, count + 1))
        return count >= _CROWD

    def _beside_posts(self, place: int) -> bool:
        posted = self._posts.get(place)
        return posted is not None and time.monotonic() - posted < _BESIDE_SECONDS

    def _over(self, place: int) -> None:
        """Those that were gathered have waited long enough."""
        held = self._held.pop(place, None)
        if held is None:
            return  # they were flushed
        due = self._due.get(place)
        if due is not None:
            due.extend(held)
        else:
            self._due[place] = deque(held)
            self._next(place)

    def _next(self, place: int) -> None:
        """Hand on a portion of what is due; the next one when this one has its answers."""
        due = self._due.get(place)
        if not due:
            self._due.pop(place, None)
            return
        size = min(len(due), _PORTION) if self._beside_posts(place) else len(due)
        portion = [due.popleft() for _ in range(size)]
        left = len(portion)

        def counted(answered: Answered) -> Answered:
            def tell(answer: list[Written] | Exception) -> None:
                nonlocal left
                left -= 1
                if left == 0:
                    self._next(place)
                answered(answer)

            return tell

        self._write([(unit, counted(answered)) for unit, answered in portion])

    def _hand_on(self, place: int) -> None:
        """Hand on all that waits in a conversation, in its order."""
        units = [*self._due.pop(place, ()), *self._held.pop(place, ())]
        if units:
            self._write(units)

    def flush(self) -> None:
        """Hand on all that is held: nobody waits for more."""
        for place in {**self._due, **self._held}:
            self._hand_on(place)
