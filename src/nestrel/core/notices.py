"""Notices: who is told of a message while they are not here, what they are told, and when it is tried again."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from uuid import UUID

import orjson

from nestrel.core.roles import Kind

DELAY = timedelta(seconds=3)
"""After the post, so that a receipt can still come."""
BODY_CHARS = 500
BYTES = 3_000
"""Of a notice as JSON in UTF-8: a push service takes 4,096 bytes (RFC 8030, 7.2), with what encryption adds."""
_CUT = "…"
_TTL_FULL, _TTL = timedelta(hours=1), timedelta(hours=24)
_FIRST_SECONDS, _MOST_SECONDS = 1.0, 600.0
_ATTEMPTS = 12


class Notify(StrEnum):
    """What a member wants to be told of in a conversation."""

    ALL = "all"
    MENTIONS = "mentions"
    NONE = "none"


class Content(StrEnum):
    """How much of a message a notice holds: `title` leaves its body out, `none` says only that there is one."""

    FULL = "full"
    TITLE = "title"
    NONE = "none"

    @property
    def ttl(self) -> timedelta:
        """For how long a push service keeps it for a device that is away."""
        return _TTL_FULL if self is Content.FULL else _TTL


def preference(kind: str, notify: str | None) -> str:
    """What a member wants to be told of; who has not said so, in a group only of what names them."""
    return notify or (Notify.MENTIONS if kind == Kind.GROUP else Notify.ALL)


@dataclass(frozen=True, slots=True)
class Notice:
    """A message of which somebody is to be told, as it stands at the moment of sending. `title` is the conversation's;
    a direct one, which has none, is called after its other member."""

    user_id: str
    conversation_id: UUID
    seq: int
    created_at: datetime
    title: str
    author: str
    body: str
    unread: int

    def wire(self, content: Content, public_url: str) -> dict[str, object]:
        """What is sent of it, of at most `BYTES` as JSON: the body is cut to what there is room for."""
        shown = content is not Content.NONE
        wire: dict[str, object] = {
            "conversation_id": str(self.conversation_id),
            "seq": self.seq,
            "title": self.title if shown else None,
            "author": self.author if shown else None,
            "unread": self.unread,
            "url": f"{public_url}/console/c/{self.conversation_id}?at={self.seq}",
        }
        if content is Content.FULL:
            wire["body"] = ""
            wire["body"] = cut(self.body, BYTES - len(orjson.dumps(wire)))
        return wire


def cut(body: str, room: int) -> str:
    """A body of at most `BODY_CHARS` code points and of `room` bytes as JSON without its quotes, with an ellipsis
    where that is not all of it; no code point is parted."""
    if len(body) <= BODY_CHARS and _size(body) <= room:
        return body
    low, high = 0, min(len(body), BODY_CHARS - len(_CUT))
    while low < high:
        middle = (low + high + 1) // 2
        low, high = (middle, high) if _size(body[:middle] + _CUT) <= room else (low, middle - 1)
    return body[:low] + _CUT


def _size(text: str) -> int:
    return len(orjson.dumps(text)) - 2


def topic(subscription_id: UUID, conversation_id: UUID) -> str:
    """What replaces what at a push service (RFC 8030, 5.4): of one conversation only the newest notice waits. It tells
    the push service neither the conversation nor that others are in it."""
    return hashlib.blake2b(conversation_id.bytes, key=subscription_id.bytes, digest_size=16).hexdigest()


def again_after(attempt: int, asked_to_wait: float) -> float | None:
    """In how many seconds a notice that has failed so often is tried again: each pause is twice the last, and at most
    ten minutes, or what the push service asks for. None: not any more."""
    if attempt >= _ATTEMPTS:
        return None
    return max(min(_MOST_SECONDS, _FIRST_SECONDS * 2.0 ** (attempt - 1)), asked_to_wait)
