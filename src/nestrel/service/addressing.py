"""A change set is written once for all of its readers; the cursors of each reader are put in front."""

from __future__ import annotations

from nestrel.core.cursors import CursorSeal
from nestrel.live.deliveries import Delivery, Ended, Event, Rewound
from nestrel.store import rows
from nestrel.store.events import Signal
from nestrel.store.read.changes import Changes


def written(base: str | None, cursor: str, tail: str, opening: str = "{") -> str:
    """The JSON object whose other fields are `tail`; `opening` may bring more in front."""
    quoted = "null" if base is None else f'"{base}"'
    return f'{opening}"base":{quoted},"cursor":"{cursor}",{tail}'


def addressed(seal: CursorSeal, member: str, changes: Changes) -> str:
    """A change set for one member as JSON."""
    id_, start = changes.conversation_id, changes.start
    base = None if start is None else seal.conversation(member, id_, start)
    return written(base, seal.conversation(member, id_, changes.end), changes.tail())


def signalled(signal: Signal) -> dict[str, str]:
    """A signal as an object of the wire."""
    return {"conversation_id": str(signal.conversation_id), "user_id": signal.user_id, "name": signal.name}


def frame_of(event: Event) -> bytes:
    """An event as a frame of a WebSocket."""
    if isinstance(event, Delivery):
        return written(event.base, event.cursor, event.tail, opening='{"type":"changes",').encode()
    if isinstance(event, Ended):
        frame = {"type": "unfollowed", "conversation_id": str(event.conversation_id), "reason": event.reason}
    elif isinstance(event, Rewound):
        frame = {"type": "rewound"}
    elif isinstance(event, Signal):
        frame = {"type": "signal", **signalled(event)}
    else:
        frame = {"type": "checkpoint", "cursor": event.cursor}
    return rows.dump(frame)
