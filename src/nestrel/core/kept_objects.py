"""The objects of the wire about what is kept: rules, the archive, imports and erasures."""

from __future__ import annotations

from datetime import date, datetime

from pydantic import ConfigDict, Field

from nestrel.core.objects import Profile, WireObject
from nestrel.core.retention import Source, Then


class RetentionRule(WireObject):
    """What a conversation keeps; `then` is null where there is no rule. `own` is False for a rule that it inherits:
    `from` says whether that is its kind's or the service's."""

    model_config = ConfigDict(serialize_by_alias=True, populate_by_name=True)

    keep_last: int | None
    keep_for: str | None
    keep_bytes: int | None
    then: Then | None
    hold: bool
    own: bool
    source: Source | None = Field(default=None, alias="from")


class Day(WireObject):
    """Messages of one day, in UTC."""

    day: date
    messages: int


class RetentionPreview(WireObject):
    """What a rule would take away at once: messages that are no tombstones, and the bytes of their bodies and
    attributes. `seq`s are null for the service's rule, which is about many conversations."""

    expires: int
    first_seq: int | None
    last_seq: int | None
    first_at: datetime | None
    last_at: datetime | None
    bytes: int
    by_day: list[Day]


class RetentionRun(WireObject):
    """What a sweep has taken away, and what still waits: messages below the floor that nobody can read any more."""

    archived: int
    discarded: int
    waiting: int
    conversations: int


class ArchiveSegment(WireObject):
    """A run of archived messages; `bytes` and `sha256` (hexadecimal) are of its uncompressed lines."""

    segment: int
    first_seq: int
    last_seq: int
    messages: int
    bytes: int
    sha256: str
    archived_at: datetime


class DiscardedRun(WireObject):
    """A run of messages that a rule has discarded."""

    first_seq: int
    last_seq: int
    discarded_at: datetime


class ArchivePage(WireObject):
    """Segments in order. `discarded` are the latest runs that no segment has because the rule said so."""

    items: list[ArchiveSegment]
    next: str | None
    discarded: list[DiscardedRun]


class RefusedLine(WireObject):
    """A line that was not imported: its number in the request, from 1, and why."""

    line: int
    detail: str


class ImportAnswer(WireObject):
    """What became of each line: `seqs` has its number here, null for one that was refused or is no longer kept."""

    added: int
    repeated: int
    seqs: list[int | None]
    refused: list[RefusedLine]


class ErasurePreview(WireObject):
    """What erasing a person would empty."""

    user_id: str
    display_name: str
    messages: int
    archived: int
    conversations: int


class Erasure(WireObject):
    """The record of an erasure; `messages` and `archived` are what it has emptied so far, and no content. Of an
    `identity` the `user_id` is what is `shown_as` the author, once it has finished."""

    id: str
    user_id: str
    identity: bool
    shown_as: str | None
    asked_by: str
    asked_at: datetime
    finished_at: datetime | None
    messages: int
    archived: int
    conversations: int


class ErasurePage(WireObject):
    items: list[Erasure]
    next: str | None
    profiles: dict[str, Profile]
