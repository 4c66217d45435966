"""Retention rules: what a conversation keeps, and what expires under a rule."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple

from nestrel.core.durations import Duration


class Then(StrEnum):
    """What becomes of an expired message."""

    ARCHIVE = "archive"
    DISCARD = "discard"


class Excess(NamedTuple):
    """How many messages, and how many bytes of them, have to go; the oldest go first, whole."""

    messages: int
    bytes: int

    def __bool__(self) -> bool:
        return self.messages > 0 or self.bytes > 0


@dataclass(frozen=True, slots=True)
class Rule:
    """What a conversation keeps. Limits that are not None all hold, so that the strictest wins.

    `keep_last` is a number of messages, `keep_bytes` the bytes of their bodies and attributes (UTF-8, attributes as
    compact JSON, none for empty ones); tombstones count in neither. `keep_for` is an age. `hold` stops it all.
    """

    keep_last: int | None = None
    keep_for: Duration | None = None
    keep_bytes: int | None = None
    then: Then = Then.ARCHIVE
    hold: bool = False

    @property
    def takes(self) -> bool:
        """Whether it can take anything away."""
        return not self.hold and not (self.keep_last is None and self.keep_for is None and self.keep_bytes is None)

    def excess(self, messages: int, size: int) -> Excess:
        """What is over the limits, of so many messages with so many bytes."""
        if self.hold:
            return Excess(0, 0)
        over_count = messages - self.keep_last if self.keep_last is not None else 0
        over_bytes = size - self.keep_bytes if self.keep_bytes is not None else 0
        return Excess(max(over_count, 0), max(over_bytes, 0))

    def cutoff(self, now: datetime) -> datetime | None:
        """What was written at that moment or before has expired; None: nothing does by age."""
        return self.keep_for.before(now) if self.keep_for is not None and not self.hold else None

    def admits(self, size: int) -> bool:
        """Whether one message of this size can be kept at all."""
        return self.hold or self.keep_bytes is None or size <= self.keep_bytes


NO_RULE = Rule()


class Source(StrEnum):
    """Whose the rule is by which a conversation goes."""

    OWN = "own"
    KIND = "kind"
    SERVICE = "service"


class Version(NamedTuple):
    """A rule of the service's or of a kind's, by its number; one of a kind's may say that it was `cleared`."""

    number: int
    rule: Rule
    cleared: bool = False


class Inherited(NamedTuple):
    """The rule by which conversations of a kind go that have none of their own. `number` grows with every change of
    it, so that whoever has another one is behind."""

    number: int
    rule: Rule
    source: Source | None


def inherited(service: Version, kind: Version | None) -> Inherited:
    """What holds for a kind, of the newest rule of the service and the newest of the kind. Once a kind's was cleared,
    the service's holds again, from then on."""
    if kind is not None and not kind.cleared:
        return Inherited(kind.number, kind.rule, Source.KIND)
    number = service.number if kind is None else max(service.number, kind.number)
    return Inherited(number, service.rule, Source.SERVICE if service.rule != NO_RULE else None)


def size_of(body: str, attributes: str | None, attached: int = 0) -> int:
    """The bytes of a message that `keep_bytes` counts; `attached` are those of its attachments, as if nothing of them
    were shared."""
    size = attached + (len(body) if body.isascii() else len(body.encode()))
    if attributes is not None:
        size += len(attributes) if attributes.isascii() else len(attributes.encode())
    return size
