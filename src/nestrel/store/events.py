"""What a committed transaction tells the rest of the service: which conversations moved, and to where."""

from __future__ import annotations

import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import chain
from typing import Any, NamedTuple
from uuid import UUID

import orjson

from nestrel.store.tracing import tracing
from nestrel.store.words import Words, most


def channel(schema: str) -> str:
    """The channel of NOTIFY, and of Redis, on which the processes of one schema speak."""
    return schema


_NOTIFY_BYTES = most(7_900)
"""PostgreSQL takes less than 8,000 bytes in one NOTIFY."""
_SAID_SECONDS = 120.0
"""What is older was said before, and is said again by somebody else; processes' clocks are closer together."""


@dataclass(frozen=True, slots=True)
class Moved:
    """A conversation now stands at `rev`. `joined` names users who have just become members."""

    conversation_id: UUID
    rev: int
    joined: tuple[str, ...] = ()


class Signal(NamedTuple):
    """What a member tells those who follow a conversation now; `name` says what, such as `writing`."""

    conversation_id: UUID
    user_id: str
    name: str


class Looking(NamedTuple):
    """What the person of a connection looks at now; None for nothing."""

    user_id: str
    connection: str
    conversation_id: UUID | None


Said = Signal | Looking
"""What is told now or never, and kept nowhere."""


def pack_said(words: Words, node: str, said: Sequence[Said]) -> Iterator[str]:
    """The same as bus payloads, each within PostgreSQL's limit."""
    if not said:
        return
    signals = [(str(one[0]), *one[1:]) for one in said if isinstance(one, Signal)]
    looking = [(*one[:2], one[2] and str(one[2])) for one in said if isinstance(one, Looking)]
    payload = orjson.dumps({"node": node, "signals": signals, "looking": looking, "at": time.time()})
    if len(payload) <= _NOTIFY_BYTES or len(said) == 1:
        yield words.seal(payload)
    else:
        half = len(said) // 2
        yield from chain(pack_said(words, node, said[:half]), pack_said(words, node, said[half:]))


def pack(words: Words, node: str | None, events: Sequence[Moved]) -> Iterator[str]:
    """Events as bus payloads, each within PostgreSQL's limit. `node` is the process that needs no telling. Where the
    caller's span is recorded, they carry it."""
    if not events:
        return
    said: dict[str, Any] = {
        "node": node,
        "moved": [(str(event.conversation_id), event.rev, event.joined) for event in events],
    }
    if tracing.tracer is not None and (carried := tracing.carried()) is not None:
        said["trace"] = carried
    payload = orjson.dumps(said)
    if len(payload) <= _NOTIFY_BYTES:
        yield words.seal(payload)
    else:
        yield from chain.from_iterable(pack(words, node, half) for half in _halves(events))


def _halves(events: Sequence[Moved]) -> tuple[Sequence[Moved], Sequence[Moved]]:
    """Two parts of about one size; a single event is parted by the users that it names, as one
    user always fits."""
    if len(events) > 1:
        return events[: len(events) // 2], events[len(events) // 2 :]
    joined, half = events[0].joined, len(events[0].joined) // 2
    return [replace(events[0], joined=joined[:half])], [replace(events[0], joined=joined[half:])]


class Heard(NamedTuple):
    """What an opened payload says: what has moved with the span that it carries, or what was said."""

    moved: Sequence[Moved] = ()
    said: Sequence[Said] = ()
    trace: str | None = None


def unpack(payload: str, node: str) -> Heard:
    """What an opened payload says to this process: nothing if `node` sent it itself, or if it was said too long ago.
    Raises `ValueError` for anything else."""
    try:
        raw = orjson.loads(payload)
        if raw["node"] == node:
            return Heard()
        if "moved" in raw:
            moved = [Moved(UUID(id_), int(rev), tuple(joined)) for id_, rev, joined in raw["moved"]]
            return Heard(moved, trace=raw.get("trace"))
        if abs(time.time() - raw["at"]) > _SAID_SECONDS:
            return Heard()
        signals = [Signal(UUID(id_), user_id, name) for id_, user_id, name in raw["signals"]]
        looking = [Looking(who, connection, id_ and UUID(id_)) for who, connection, id_ in raw["looking"]]
        return Heard(said=[*signals, *looking])
    except (KeyError, TypeError, orjson.JSONDecodeError) as error:
        raise ValueError(f"not an event of this service: {error}") from None
