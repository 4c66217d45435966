"""The outbox: commands that a client made while away, in their order, and what the service's answer means for each."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from enum import StrEnum
from typing import Any, Literal

from nestrel.core.objects import Message, Reaction

Kind = Literal["post", "edit", "remove", "react", "unreact", "read"]


class Outcome(StrEnum):
    """`done`: carried out, now or before. `again`: not now, and later perhaps. `refused`: the application decides."""

    DONE = "done"
    AGAIN = "again"
    REFUSED = "refused"


@dataclass(frozen=True, slots=True)
class Enclosed:
    """A file that goes with a post; `attachment_id` once it has been uploaded."""

    name: str
    bytes: int
    attachment_id: str | None = None


@dataclass(frozen=True, slots=True)
class Entry:
    """One command. `key` is its own id, for a post the idempotency key. `seq` is the message that it is about; until
    that has a number, `about` is the key of its post. `problem` is why it was refused, as an RFC 9457 document.
    `files` go with a post, and are uploaded before it."""

    n: int
    conversation_id: str
    kind: Kind
    key: str
    content: Mapping[str, Any]
    at: datetime
    seq: int | None = None
    about: str | None = None
    problem: Mapping[str, Any] | None = field(default=None)
    files: Sequence[Enclosed] = ()

    @property
    def waiting(self) -> bool:
        return self.problem is None

    def frame(self) -> dict[str, Any]:
        """The frame of the WebSocket that carries it out."""
        frame = {"type": self.kind, "conversation_id": self.conversation_id, **self.content}
        if self.kind == "post":
            frame["key"] = self.key
            if self.files:
                frame["attachments"] = [file.attachment_id for file in self.files]
        elif self.seq is not None:
            frame["seq"] = self.seq
        return frame


def outcome(entry: Entry, problem: Mapping[str, Any], user_id: str) -> tuple[Outcome, dict[str, Any] | None]:
    """What a refusal means. An edit that looks stale because it arrived before, with its answer lost, is done, and the
    message as it stands comes with it."""
    status = problem.get("status", 500)
    if status in (401, 408, 429) or status >= 500:
        return Outcome.AGAIN, None
    if entry.kind == "post" and status == 410:
        return Outcome.DONE, None  # its key says that it was posted, and has expired since
    message = problem.get("message")
    if entry.kind == "edit" and isinstance(message, dict):
        wanted = (entry.content["body"], entry.content.get("format") or message["format"], user_id, None)
        named = message.get("mentions", [])
        borne = [one["attachment_id"] for one in message.get("attachments", [])]
        if (
            (message["body"], message["format"], message["author_id"], message["removed_at"]) == wanted
            and entry.content.get("mentions", named) == named
            and entry.content.get("attachments", borne) == borne
        ):
            return Outcome.DONE, message
    return Outcome.REFUSED, None


def lost_files(entry: Entry, problem: Mapping[str, Any]) -> bool:
    """Whether a post was refused because what was uploaded for it is not there any more: after a day in no message."""
    return bool(entry.files) and any(one.get("pointer") == "/attachments" for one in problem.get("errors") or ())


def rebased(entry: Entry, message: Mapping[str, Any], waiting: Iterable[Entry]) -> list[Entry]:
    """The waiting edits that were written on top of an edit which has just been carried out, with the `rev` at which
    the message stands by its answer: one's own edit in between makes none of them stale. An edit that was taken had
    seen the newest body, so nobody else's is passed over by that."""
    if entry.kind != "edit":
        return []
    seen = entry.content.get("rev")
    return [
        replace(later, content={**later.content, "rev": message["rev"]})
        for later in waiting
        if later.kind == "edit"
        and (later.conversation_id, later.seq) == (entry.conversation_id, message["seq"])
        and later.content.get("rev") is not None
        and seen in (None, later.content["rev"])
    ]


def overlaid(message: Message, entries: Iterable[Entry], user_id: str) -> Message:
    """A message as it will be once the waiting commands about it have been carried out."""
    for entry in entries:
        if entry.seq != message.seq or not entry.waiting or message.removed_at is not None:
            continue
        if entry.kind == "edit":
            changes: dict[str, Any] = {"body": entry.content["body"], "edited_at": entry.at}
            if entry.content.get("format"):
                changes["format"] = entry.content["format"]
            if entry.content.get("mentions") is not None:
                changes["mentions"] = entry.content["mentions"]
            if entry.content.get("attachments") is not None:
                kept = {one.attachment_id: one for one in message.attachments}
                changes["attachments"] = [kept[id_] for id_ in entry.content["attachments"] if id_ in kept]
        elif entry.kind == "remove":
            changes = {
                "body": "", "attributes": {}, "reactions": [], "mentions": [], "attachments": [],
                "removed_at": entry.at, "removed_by": user_id,
            }  # fmt: skip
        elif entry.kind in ("react", "unreact"):
            changes = {"reactions": _reacted(message, entry, user_id)}
        else:
            continue
        message = message.model_copy(update=changes)
    return message


def _reacted(message: Message, entry: Entry, user_id: str) -> list[Reaction]:
    symbol, on = entry.content["symbol"], entry.kind == "react"
    held = next((one for one in message.reactions if one.symbol == symbol), None)
    if held is None:
        return [*message.reactions, Reaction(symbol=symbol, count=1, by=[user_id])] if on else message.reactions
    if (user_id in held.by) == on:
        return message.reactions
    by = sorted([*held.by, user_id]) if on else [one for one in held.by if one != user_id]
    new = Reaction(symbol=symbol, count=held.count + (1 if on else -1), by=by)
    return [new if one is held else one for one in message.reactions if one is not held or new.count]
