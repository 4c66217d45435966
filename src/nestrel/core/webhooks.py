"""What a webhook is, how its requests are signed, and when they are tried again."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from uuid import UUID

from nestrel.core.problems import NotFound
from nestrel.core.times import format_time

_PREFIX = "whsec_"
SECRET_BYTES = 32
_FIRST_SECONDS = 1.0
_MOST_SECONDS = 3_600.0
_GIVEN_UP = timedelta(days=3)
OLD_SECRET = timedelta(hours=24)
"""For so long the secret of before signs beside a new one."""
GONE = 410


class State(StrEnum):
    """Whether it is sent to: `paused` by somebody, `stopped` by its receiver's own word, or after three days without an
    answer."""

    ACTIVE = "active"
    PAUSED = "paused"
    STOPPED = "stopped"


@dataclass(frozen=True, slots=True)
class Failing:
    """How often in a row it has failed, since when, and when it is tried again."""

    attempt: int = 0
    since: datetime | None = None
    next_at: datetime | None = None


@dataclass(frozen=True, slots=True)
class Replay:
    """Messages made since a time that are to be sent again: those behind `after`, and in that conversation behind
    `seq`."""

    since: datetime
    after: UUID
    seq: int


@dataclass(frozen=True, slots=True)
class Webhook:
    """Where changes are sent to: of all conversations, or of one."""

    id: UUID
    url: str
    type: str
    conversation_id: UUID | None
    state: State
    secrets: tuple[bytes, ...]
    """The present one, and the one before while it signs too."""
    failing: Failing
    replay: Replay | None
    created_by: str
    created_at: datetime
    begun: str | None = None
    """The cursor at which it began; of one that was told of everything since, none."""

    def wire(self) -> dict[str, object]:
        """What everybody who may see it is shown."""
        return {
            "webhook_id": str(self.id),
            "url": self.url,
            "type": self.type,
            "conversation_id": None if self.conversation_id is None else str(self.conversation_id),
            "state": self.state.value,
            "created_by": self.created_by,
            "created_at": format_time(self.created_at),
            "attempt": self.failing.attempt,
            "failing_since": _time(self.failing.since),
            "next_at": _time(self.failing.next_at),
        }


def no_webhook(id_: UUID) -> NotFound:
    return NotFound(f"there is no webhook {id_}")


def _time(moment: datetime | None) -> str | None:
    return None if moment is None else format_time(moment)


def secret_text(secret: bytes) -> str:
    """A secret as it is given out: `whsec_` and base64 (RFC 4648, 4)."""
    return _PREFIX + base64.b64encode(secret).decode()


def secret_of(text: str) -> bytes:
    """The secret that a text stands for. Raises `ValueError` where it is none of 24 to 64 bytes."""
    wrong = ValueError("must be whsec_ and the base64 (RFC 4648) of 24 to 64 bytes")
    try:
        secret = base64.b64decode(text.removeprefix(_PREFIX), validate=True)
    except (binascii.Error, ValueError):
        raise wrong from None
    if not text.startswith(_PREFIX) or not 24 <= len(secret) <= 64:
        raise wrong
    return secret


def message_id(webhook_id: UUID, content: bytes) -> str:
    """The id of what is sent: the same for the same content, so that a receiver may pass over what it has taken."""
    return f"msg_{hashlib.blake2b(content, key=webhook_id.bytes, digest_size=16).hexdigest()}"


def signed(secrets: Sequence[bytes], id_: str, now: float, body: bytes) -> dict[str, str]:
    """The headers of the Standard Webhooks specification: one signature, HMAC-SHA256, for each secret."""
    stamp = str(int(now))
    text = f"{id_}.{stamp}.".encode() + body
    marks = [base64.b64encode(hmac.digest(secret, text, "sha256")).decode() for secret in secrets]
    return {
        "webhook-id": id_,
        "webhook-timestamp": stamp,
        "webhook-signature": " ".join(f"v1,{mark}" for mark in marks),
    }


def failed(before: Failing, now: datetime, status: int | None, asked_to_wait: float = 0.0) -> tuple[State, Failing]:
    """What becomes of a webhook whose request has failed. Each pause is twice the last, and at most an hour; a receiver
    may ask for a longer one within that."""
    since = before.since or now
    attempt = before.attempt + 1
    if status == GONE or now - since >= _GIVEN_UP:
        return State.STOPPED, Failing(attempt, since, None)
    pause = min(_MOST_SECONDS, max(_FIRST_SECONDS * 2.0 ** min(attempt - 1, 20), asked_to_wait))
    return State.ACTIVE, Failing(attempt, since, now + timedelta(seconds=pause))
