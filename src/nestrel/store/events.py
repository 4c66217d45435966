"""What a committed transaction tells the rest of the service: which conversations moved, and to where."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from uuid import UUID

import orjson

CHANNEL = "nestrel"
_NOTIFY_BYTES = 7_900
"""PostgreSQL takes less than 8,000 bytes in one NOTIFY."""


@dataclass(frozen=True, slots=True)
class Moved:
    """A conversation now stands at `rev`. `joined` names users who have just become members."""

    conversation_id: UUID
    rev: int
    joined: tuple[str, ...] = ()


def pack(node: str | None, events: Iterable[Moved]) -> Iterator[str]:
    """Events as bus payloads, each within PostgreSQL's limit. `node` is the process that needs no telling."""
    chunk: list[bytes] = []
    size = 0
    for event in _split(events):
        packed = orjson.dumps([str(event.conversation_id), event.rev, event.joined])
        if chunk and size + len(packed) > _NOTIFY_BYTES - 100:
            yield _payload(node, chunk)
            chunk, size = [], 0
        chunk.append(packed)
        size += len(packed) + 1
    if chunk:
        yield _payload(node, chunk)


def _split(events: Iterable[Moved]) -> Iterator[Moved]:
    """An event that names many users, in pieces that fit one payload."""
    for event in events:
        for start in range(0, max(1, len(event.joined)), 10):
            yield Moved(event.conversation_id, event.rev, event.joined[start : start + 10])


def _payload(node: str | None, chunk: list[bytes]) -> str:
    return (b'{"node":' + orjson.dumps(node) + b',"moved":[' + b",".join(chunk) + b"]}").decode()


def unpack(payload: str, node: str) -> list[Moved]:
    """The events of a payload, none if `node` sent it itself. Raises `ValueError` on anything else on the channel."""
    if payload.startswith(f'{{"node":"{node}"'):
        return []
    try:
        raw = orjson.loads(payload)
        return [Moved(UUID(id_), int(rev), tuple(joined)) for id_, rev, joined in raw["moved"]]
    except (KeyError, TypeError, orjson.JSONDecodeError) as error:
        raise ValueError(f"not an event of this service: {error}") from None
