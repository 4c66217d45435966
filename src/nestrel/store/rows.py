"""Rows to the objects of the wire, as plain dictionaries that orjson writes. One place, for pages and live frames."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any

import orjson

from nestrel.core.attachments import Attachment
from nestrel.core.times import format_time

Wire = dict[str, Any]

MESSAGE_COLUMNS = (
    "seq, rev, author_id, body, format, attributes, reply_to, created_at, edited_at, edits, removed_at, removed_by, "
    "mentions, attachments"
)
MEMBER_COLUMNS = "user_id, role, joined_at, left_at, read_seq, read_at, rev"
ATTACHMENT_COLUMNS = "id, uploader_id, name, media_type, bytes, sha256, width, height, still, created_at"
PROFILE_COLUMNS = "user_id, display_name, picture, rev"


def columns(alias: str, names: str) -> str:
    """The column list under a table's alias."""
    return ", ".join(f"{alias}.{name}" for name in names.split(", "))


@lru_cache(maxsize=4096)
def wire_time(moment: datetime | None) -> str | None:
    """A time from PostgreSQL, which the driver gives in UTC, as `format_time` would write it, only faster; the
    messages of one transaction share theirs."""
    return None if moment is None else moment.isoformat(timespec="microseconds")[:-6] + "Z"


def wire_time_of(seconds: float) -> str:
    """A time given in seconds since 1970."""
    return format_time(datetime.fromtimestamp(min(max(seconds, 0.0), 253_402_300_799.0), UTC))


def raw_json(packed: str | None) -> Any:
    """Stored JSON as a fragment that is written as it is."""
    return orjson.Fragment(packed) if packed else {}


def message(conversation_id: str, row: Sequence[Any]) -> Wire:
    """A message object from a row in the order of `MESSAGE_COLUMNS`."""
    return {
        "conversation_id": conversation_id,
        "seq": row[0],
        "rev": row[1],
        "author_id": row[2],
        "body": row[3],
        "format": row[4],
        "attributes": raw_json(row[5]),
        "reply_to": row[6],
        "created_at": wire_time(row[7]),
        "edited_at": wire_time(row[8]),
        "edits": row[9],
        "removed_at": wire_time(row[10]),
        "removed_by": row[11],
        "reactions": [],
        "attachments": [] if row[13] is None else orjson.Fragment(row[13]),
        "mentions": row[12] or [],
    }


def attachment(row: Sequence[Any]) -> Attachment:
    """An attachment from a row in the order of `ATTACHMENT_COLUMNS`."""
    return Attachment(*row)


def member(row: Sequence[Any]) -> Wire:
    """A member object from a row in the order of `MEMBER_COLUMNS`."""
    return {
        "user_id": row[0],
        "role": row[1],
        "joined_at": wire_time(row[2]),
        "left_at": wire_time(row[3]),
        "read_seq": row[4],
        "read_at": wire_time(row[5]),
        "rev": row[6],
    }


def people(messages: Iterable[Wire], members: Iterable[Wire]) -> set[str]:
    """The users whose profiles come with messages and members: not those who reacted, who can be very many and have
    a list of their own."""
    named = {message["author_id"] for message in messages} | {member["user_id"] for member in members}
    for message in messages:
        if message["removed_by"] is not None:
            named.add(message["removed_by"])
        named.update(message["mentions"])
    return named


def profile(user_id: str, display_name: str | None, picture: str | None, rev: int | None) -> Wire:
    """A profile object; someone never seen shows the user id, at `rev` 0."""
    return {
        "user_id": user_id,
        "display_name": user_id if display_name is None else display_name,
        "picture": picture,
        "rev": rev or 0,
    }


def dump(value: Any) -> bytes:
    return orjson.dumps(value)
