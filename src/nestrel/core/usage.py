"""What was used: counted in memory where it happens, by the hour, and taken from there every few seconds."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping
from dataclasses import dataclass, field
from itertools import islice
from uuid import UUID

POSTS, EDITS, REMOVALS, REACTIONS, RECEIPTS = range(5)
HOUR = 3600


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


class Peaks:
    """The most connections that each person had at one time in an hour, in one process."""

    def __init__(self) -> None:
        self._hour = -1
        self._peaks: dict[str, int] = {}

    def seen(self, connections: Mapping[str, int], hour: int) -> dict[str, int]:
        """Those whose peak is new, or who are new in this hour."""
        if hour != self._hour:
            self._hour, self._peaks = hour, {}
        new = {user_id: n for user_id, n in connections.items() if n > self._peaks.get(user_id, 0)}
        self._peaks |= new
        return new


class Follows:
    """How many connections follow each conversation in one process, and what of it the others were told."""

    def __init__(self) -> None:
        self._told: dict[UUID, int] = {}

    def news(self, present: Mapping[UUID, int], most: int) -> dict[UUID, int]:
        """What is not as it was told, 0 for those that nobody follows any more; at most `most` of it, the rest is for
        the next time."""
        told = self._told
        changed = {id_: n for id_, n in present.items() if told.get(id_) != n}
        changed |= dict.fromkeys(told.keys() - present.keys(), 0)
        return dict(islice(changed.items(), most))

    def told(self, news: Mapping[UUID, int]) -> None:
        """The others know of these now."""
        for id_, n in news.items():
            if n:
                self._told[id_] = n
            else:
                self._told.pop(id_, None)

    def forget(self) -> None:
        """Nobody knows of anything."""
        self._told = {}
