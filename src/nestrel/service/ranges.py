"""Conditions and ranges of a request for bytes (RFC 9110, 13 and 14)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import NamedTuple

_RANGE = re.compile(r"bytes=\s*(\d*)\s*-\s*(\d*)\s*", re.IGNORECASE)
_DIGITS = 19


class Part(NamedTuple):
    """Which bytes are wanted, of how many, and the status that goes with it; the end is not among them. Of none for
    304, 412 and 416."""

    status: int
    start: int
    end: int


def wanted(headers: Mapping[str, str], etag: str, size: int) -> Part:
    """What a GET with these headers is answered with. `etag` is strong and in its quotes. Several ranges in one request
    are answered with the whole, as may be done (14.2)."""
    matching = headers.get("if-match")
    if matching is not None and not _names(matching, etag):
        return Part(412, 0, 0)
    not_matching = headers.get("if-none-match")
    if not_matching is not None and _names(not_matching, etag, weak=True):
        return Part(304, 0, 0)
    asked = headers.get("range")
    condition = headers.get("if-range")
    if asked is None or (condition is not None and condition.strip() != etag):
        return Part(200, 0, size)
    found = _RANGE.fullmatch(asked.strip())
    if found is None or not any(found.groups()) or any(len(one) > _DIGITS for one in found.groups()):
        return Part(200, 0, size)
    first, last = found.groups()
    if not first:  # so many from the end
        start, end = max(size - int(last), 0), size
    else:
        start, end = int(first), min(int(last) + 1, size) if last else size
        if last and int(last) < int(first):
            return Part(200, 0, size)  # not a range at all
    return Part(206, start, end) if start < end else Part(416, 0, 0)


def _names(header: str, etag: str, *, weak: bool = False) -> bool:
    tags = [tag.strip() for tag in header.split(",")]
    if weak:
        tags = [tag.removeprefix("W/") for tag in tags]
    return "*" in tags or etag in tags
