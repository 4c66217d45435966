"""The scenario's messages, the same for the same seed: who writes what, where and when."""

from __future__ import annotations

import random
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal

from nestrel.demo.pictures import Drawn
from nestrel.demo.scenario import BERTHS, LOGBOOK, PEOPLE, PORTS, ROOMS, TOPICS, VESSELS, Phrases, Room

DAYS = 60
MESSAGES = 4_000
LOGBOOK_MESSAGES = 20_000

_NAMES = {person.user_id: person.name for person in PEOPLE}
_WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


@dataclass(frozen=True, slots=True)
class Spoken:
    """One message of the demo. `reply_to` is a `seq` of the same room, `names` are those whom it mentions, `files`
    come with it."""

    room: Room
    author: str
    body: str
    at: datetime
    reply_to: int | None = None
    names: tuple[str, ...] = ()
    files: tuple[Drawn, ...] = ()

    @property
    def format(self) -> str:
        return "markdown" if "*" in self.body else "plain"


def lines(seed: int, until: datetime) -> Iterator[Spoken]:
    """Every message, room by room, each room in the order of time, the newest close to `until`."""
    for index, room in enumerate((*ROOMS, LOGBOOK)):
        count = LOGBOOK_MESSAGES if room is LOGBOOK else MESSAGES * room.share // 100
        yield from _room(random.Random(f"{seed}/{index}"), room, count, until)


def _room(rng: random.Random, room: Room, count: int, until: datetime) -> Iterator[Spoken]:
    writers = (room.owner, *room.moderators) if room.kind == "bulletin" else (room.owner, *room.members)
    previous: tuple[int, str, Phrases] | None = None
    for seq, at in enumerate(_times(rng, count, until), start=1):
        author = rng.choice(writers)
        answering = previous is not None and previous[2].answers and previous[1] != author and rng.random() < 0.45
        if answering and previous is not None:
            body = _fill(rng, rng.choice(previous[2].answers), at)
            reply_to = previous[0] if rng.random() < 0.5 else None
            names: tuple[str, ...] = ()
            if reply_to is None and room.kind != "direct":  # who answers without saying to what says to whom
                names = (previous[1],)
                body = f"@{_NAMES[previous[1]]} {body}"
            yield Spoken(room, author, body, at, reply_to, names)
            previous = None if rng.random() < 0.5 else previous
            continue
        topic = rng.choice(room.topics)
        phrases = TOPICS[topic]
        files = _files(topic, seq, at) if seq > count - _ILLUSTRATED else ()
        yield Spoken(room, author, _fill(rng, rng.choice(phrases.openers), at), at, files=files)
        previous = (seq, author, phrases)


_ILLUSTRATED = 60
"""So many of the newest messages of a room may come with files."""


def _files(topic: str, seq: int, at: datetime) -> tuple[Drawn, ...]:
    """What a message shows of what it says: with some, nothing."""
    if topic == "tide" and seq % 3 == 0:
        return tuple(Drawn("tide", seq + n, at + timedelta(days=n)) for n in range(1 + seq % 2))
    if topic == "berth" and seq % 4 == 0:
        return (Drawn("berths", seq, at),)
    return (Drawn("list", seq, at),) if topic == "rota" and seq % 5 == 0 else ()


@dataclass(frozen=True, slots=True)
class Later:
    """Something that happens to message `seq` afterwards: it is edited to `text`, marked with the symbol `text`, or
    removed."""

    what: Literal["edit", "mark", "remove"]
    user: str
    seq: int
    text: str = ""


_RECENT = 80
_SYMBOLS = ("like", "like", "like", "👍", "⚓", "🌊", "🙏")
_CORRECTIONS = ("Correction: five minutes later.", "Correction: berth 2.", "Sorted out since, thank you all.")


def afterwards(seed: int, room: Room, written: Sequence[Spoken]) -> Iterator[Later]:
    """What happens to the newest messages of a room: some are edited or removed, many are liked."""
    rng = random.Random(f"{seed}/later/{room.title}")
    members = (room.owner, *room.members)
    for seq in range(max(1, len(written) - _RECENT), len(written) + 1):
        line, chance = written[seq - 1], rng.random()
        if chance < 0.04 and seq < len(written) - 2:
            yield Later("remove", line.author, seq)
            continue
        if chance < 0.12:
            yield Later("edit", line.author, seq, f"{line.body} {rng.choice(_CORRECTIONS)}")
        if rng.random() < 0.3:
            for user in rng.sample(members, rng.randrange(1, min(5, len(members)) + 1)):
                yield Later("mark", user, seq, rng.choice(_SYMBOLS))


def receipts(seed: int, room: Room, head: int) -> Iterator[tuple[str, int]]:
    """How far each member has read: nearly all of it, each up to a room of their own."""
    rng = random.Random(f"{seed}/read/{room.title}")
    for user in (room.owner, *room.members):
        yield user, max(0, head - rng.randrange(9))


def _times(rng: random.Random, count: int, until: datetime) -> Sequence[datetime]:
    """Moments over 60 days, most of them between the first and the last sailing."""
    moments = []
    for _ in range(count):
        day = rng.randrange(DAYS)
        hour = min(23.9, max(0.0, rng.gauss(12.5, 4.5)))
        moments.append(until - timedelta(days=day, hours=24 - hour, seconds=rng.randrange(3600)))
    return sorted(moments)


def _fill(rng: random.Random, sentence: str, at: datetime) -> str:
    vessel, other = rng.sample(VESSELS, 2)
    return sentence.format(
        vessel=vessel,
        other=other,
        berth=rng.choice(BERTHS),
        port=rng.choice(PORTS),
        day=_WEEKDAYS[(at + timedelta(days=rng.randrange(5))).weekday()],
        hour=f"{rng.randrange(5, 23):02}:{rng.randrange(0, 60, 5):02}",
        n=rng.randrange(3, 48),
        m=rng.randrange(2, 12),
    )
