"""Messages as lines of JSON (RFC 8259), the form of the archive and of exports: the message object with all that hangs
on it, its earlier bodies and everyone who reacted."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple
from uuid import UUID

import orjson

from nestrel.core import limits
from nestrel.store import rows
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import MESSAGE_COLUMNS, Wire

_RECORD_MESSAGES = f"""
SELECT {MESSAGE_COLUMNS} FROM nestrel.messages WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3 ORDER BY seq LIMIT
$4
"""
_COUNTS = """
SELECT seq, symbol, count, rev, since FROM nestrel.reaction_counts WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3
"""
_REACTED = """
SELECT seq, symbol, user_id, created_at FROM nestrel.reactions
WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3 ORDER BY seq, symbol, user_id
"""
_RECORD_EARLIER = """
SELECT seq, body, format, created_at, edited_at, editor_id FROM nestrel.message_edits
WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3 ORDER BY seq, n
"""
_EDITS, _REMOVED_AT = 9, 10


# A raw line end is in no JSON text that this service makes, so it parts the objects of one list.
_PART = orjson.Fragment(b"\n")


NO_CONTENT: Wire = {
    "body": "", "attributes": {}, "edited_at": None, "edits": 0, "reactions": [], "attachments": [], "mentions": [],
    "earlier": [], "reacted": [],
}  # fmt: skip
"""What a tombstone's line has instead of content."""


class Record(NamedTuple):
    """One message and its line, without the line's end; `kept` tells it from a tombstone."""

    seq: int
    author_id: str
    kept: bool
    text: bytes


@dataclass(slots=True)
class Run:
    """A run of messages as they were read: rows in the order of `MESSAGE_COLUMNS`, and what hangs on them."""

    conversation_id: UUID
    messages: Sequence[Sequence[Any]]
    counts: Sequence[Sequence[Any]] = ()
    reacted: Sequence[Sequence[Any]] = ()
    earlier: Sequence[Sequence[Any]] = ()

    def lines(self) -> list[Record]:
        """Their lines, by `seq`. One call writes them all: a call for each would cost more than the writing."""
        parts = [part for message in self.objects() for part in (message, _PART)]
        texts = orjson.dumps(parts[:-1])[1:-1].split(b",\n,") if parts else []
        return [
            Record(row[0], row[2], row[_REMOVED_AT] is None, text)
            for row, text in zip(self.messages, texts, strict=True)
        ]

    def objects(self) -> list[Wire]:
        """The objects that the lines hold."""
        name = str(self.conversation_id)
        objects: dict[int, Wire] = {}
        for row in self.messages:
            objects[row[0]] = message = rows.message(name, row)
            message["earlier"], message["reacted"] = [], []
        if self.counts:
            _react(objects, self.counts, self.reacted)
        for seq, body, format_, created_at, edited_at, editor_id in self.earlier:
            objects[seq]["earlier"].append(
                {
                    "body": body,
                    "format": format_,
                    "created_at": rows.wire_time(created_at),
                    "edited_at": rows.wire_time(edited_at),
                    "edited_by": editor_id,
                }
            )
        return list(objects.values())


async def read(connection: Connection, conversation_id: UUID, low: int, high: int, limit: int) -> Run:
    """At most `limit` messages from `low` up to `high`."""
    found = await fetch(connection, _RECORD_MESSAGES, conversation_id, low, high, limit)
    run = Run(conversation_id, found)
    if not found:
        return run
    last = found[-1][0]
    run.counts = await fetch(connection, _COUNTS, conversation_id, low, last)
    if run.counts:
        run.reacted = await fetch(connection, _REACTED, conversation_id, low, last)
    if any(row[_EDITS] for row in found):
        run.earlier = await fetch(connection, _RECORD_EARLIER, conversation_id, low, last)
    return run


def _react(objects: dict[int, Wire], counts: Sequence[Sequence[Any]], reacted: Sequence[Sequence[Any]]) -> None:
    for seq, symbol, user_id, created_at in reacted:
        mark = {"user_id": user_id, "symbol": symbol, "reacted_at": rows.wire_time(created_at)}
        objects[seq]["reacted"].append(mark)
    for seq, symbol, count, rev, _ in sorted(counts, key=lambda row: (row[4], row[1])):
        message = objects[seq]
        message["rev"] = max(message["rev"], rev)
        if count:
            by = [mark["user_id"] for mark in message["reacted"] if mark["symbol"] == symbol]
            message["reactions"].append({"symbol": symbol, "count": count, "by": by[: limits.REACTION_NAMES]})


def without(line: Wire, user_id: str, shown: str) -> Wire:
    """A message's line with another id in the place of somebody's, without their reactions and mentions of them."""
    for name in ("author_id", "removed_by"):
        if line[name] == user_id:
            line[name] = shown
    for earlier in line["earlier"]:
        if earlier.get("edited_by") == user_id:
            earlier["edited_by"] = shown
    line["mentions"] = [one for one in line.get("mentions", ()) if one != user_id]
    theirs = {mark["symbol"] for mark in line["reacted"] if mark["user_id"] == user_id}
    line["reacted"] = [mark for mark in line["reacted"] if mark["user_id"] != user_id]
    for reaction in line["reactions"]:
        if reaction["symbol"] in theirs:
            reaction["count"] -= 1
            by = [mark["user_id"] for mark in line["reacted"] if mark["symbol"] == reaction["symbol"]]
            reaction["by"] = by[: limits.REACTION_NAMES]
    line["reactions"] = [reaction for reaction in line["reactions"] if reaction["count"] > 0]
    return line
