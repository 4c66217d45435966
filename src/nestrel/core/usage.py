"""What was used: counted in memory where it happens, by the hour, and taken from there every few seconds."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from itertools import chain, islice
from typing import Any, NamedTuple
from uuid import UUID

POSTS, EDITS, REMOVALS, REACTIONS, RECEIPTS = range(5)
HOUR = 3600

_LOOKS = 3


@dataclass(slots=True)
class Counted:
    """What a process has counted in one hour, which begins at `hour` (seconds since 1970): commands by conversation and
    person, in the order of the constants above; change sets by conversation, and by person."""

    hour: int
    commands: dict[tuple[UUID, str], list[int]] = field(default_factory=dict)
    by_place: defaultdict[UUID, int] = field(default_factory=lambda: defaultdict(int))
    by_person: defaultdict[str, int] = field(default_factory=lambda: defaultdict(int))

    def __bool__(self) -> bool:
        return bool(self.commands or self.by_place or self.by_person)


class Meter:
    """Counts; nothing here waits for anything. `now` is in seconds since 1970."""

    def __init__(self) -> None:
        self._counted: dict[int, Counted] = {}
        self._last: Counted | None = None

    def _hour(self, now: float) -> Counted:
        last = self._last
        if last is None or not last.hour <= now < last.hour + HOUR:
            hour = int(now // HOUR) * HOUR
            last = self._last = self._counted.setdefault(hour, Counted(hour))
        return last

    def command(self, kind: int, conversation_id: UUID, user_id: str, now: float) -> None:
        """One command was carried out."""
        commands = self._hour(now).commands
        counts = commands.get((conversation_id, user_id))
        if counts is None:
            counts = commands[conversation_id, user_id] = [0, 0, 0, 0, 0]
        counts[kind] += 1

    def delivered(self, conversation_id: UUID, user_id: str, now: float) -> None:
        """One change set was sent to somebody."""
        counted = self._hour(now)
        counted.by_place[conversation_id] += 1
        counted.by_person[user_id] += 1

    def take(self) -> list[Counted]:
        """What was counted since the last time, hour by hour."""
        taken = [counted for counted in self._counted.values() if counted]
        self._counted, self._last = {}, None
        return taken


class Highest:
    """The highest count that each key had since it was last taken, noted where a count is about to fall: what it is
    while it does not is seen by whoever looks."""

    def __init__(self) -> None:
        self._noted: dict[Any, int] = {}

    def note(self, key: Any, count: int) -> None:
        """The count of a key is about to fall."""
        if count > self._noted.get(key, 0):
            self._noted[key] = count

    def take(self) -> dict[Any, int]:
        """What was noted since the last time."""
        taken, self._noted = self._noted, {}
        return taken


class Peaks:
    """The most connections that each person had at one time in an hour."""

    def __init__(self) -> None:
        self.left: Highest = Highest()
        """How many somebody had who has one less now, in this process or in all together."""
        self._hour = -1
        self._peaks: dict[str, int] = {}

    def seen(self, connections: Mapping[str, int], hour: int) -> dict[str, int]:
        """Those whose peak is new, or who are new in this hour, of who is connected now and of who was since the last
        time."""
        if hour != self._hour:
            self._hour, self._peaks = hour, {}
        new: dict[str, int] = {}
        for user_id, n in chain(connections.items(), self.left.take().items()):
            if n > self._peaks.get(user_id, 0):
                new[user_id] = self._peaks[user_id] = n
        return new


class Lately:
    """Who has come or gone in the last looks: so many it takes until every process has told of its own."""

    def __init__(self) -> None:
        self._left: dict[str, int] = {}

    def look(self, changed: Iterable[str]) -> list[str]:
        """Of whom to ask now, with those who have come or gone since the last look."""
        self._left = {user_id: n - 1 for user_id, n in self._left.items() if n > 1}
        self._left |= dict.fromkeys(changed, _LOOKS)
        return list(self._left)


class Followed(NamedTuple):
    """How many follow a conversation now, and the most that did since it was last told."""

    now: int
    most: int


class Follows:
    """How many connections follow each conversation in one process, and what of it the others were told."""

    def __init__(self) -> None:
        self.left: Highest = Highest()
        """How many followed what one less follows now."""
        self._told: dict[UUID, int] = {}
        self._most: dict[UUID, int] = {}

    def news(self, present: Mapping[UUID, int], most: int) -> dict[UUID, Followed]:
        """What is not as it was told, 0 for those that nobody follows any more, and what was more since; at most `most`
        of it, the rest is for the next time."""
        told = self._told
        for id_, n in self.left.take().items():
            if n > max(present.get(id_, 0), told.get(id_, 0), self._most.get(id_, 0)):
                self._most[id_] = n
        changed = {id_: n for id_, n in present.items() if told.get(id_) != n}
        changed |= dict.fromkeys(told.keys() - present.keys(), 0)
        changed |= {id_: present.get(id_, 0) for id_ in self._most}
        return {id_: Followed(n, max(n, self._most.get(id_, 0))) for id_, n in islice(changed.items(), most)}

    def told(self, news: Mapping[UUID, Followed]) -> None:
        """The others know of these now."""
        for id_, one in news.items():
            self._most.pop(id_, None)
            if one.now:
                self._told[id_] = one.now
            else:
                self._told.pop(id_, None)

    def forget(self) -> None:
        """Nobody knows of anything."""
        self._told = {}
