"""What a connection is sent about what it follows."""

from __future__ import annotations

from typing import NamedTuple
from uuid import UUID

from nestrel.store.events import Signal


class Delivery(NamedTuple):
    """A change set to send: `tail` is its JSON behind the cursors. `read`: it comes from the store, and may hold what
    was committed a moment ago by a command that has no answer yet."""

    base: str | None
    cursor: str
    tail: str
    read: bool


class Ended(NamedTuple):
    """A conversation is not followed any more."""

    conversation_id: UUID
    reason: str


class Rewound(NamedTuple):
    """The database was restored or failed over: what was sent before may be lost."""


class Checkpoint(NamedTuple):
    """Everything up to this all cursor has been sent."""

    cursor: str


Event = Delivery | Ended | Rewound | Checkpoint | Signal
