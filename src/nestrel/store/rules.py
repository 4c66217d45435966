"""Retention rules in rows, and the floor as it stands at this instant."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from nestrel.core.durations import Duration
from nestrel.core.retention import NO_RULE, Rule, Then

RULE_COLUMNS = "keep_last, keep_for, keep_bytes, after_expiry, hold"

SIZE = "(octet_length(body) + coalesce(octet_length(attributes), 0))"
"""`nestrel.core.retention.size_of` in SQL."""


def floor(c: str) -> str:
    """SQL for the lowest `seq` that a conversation keeps now; `c` is an alias of `conversations`. What has expired by
    age is gone for readers at once, though the sweep moves the stored floor later."""
    return f"""(CASE WHEN {c}.keep_span IS NULL OR {c}.hold THEN {c}.floor
    ELSE nestrel.floor_v1({c}.id, {c}.floor, {c}.head, nestrel.before_v1(clock_timestamp(), {c}.keep_span)) END)"""


@lru_cache(maxsize=1024)
def rule(keep_last: int | None, keep_for: str | None, keep_bytes: int | None, then: str, hold: bool) -> Rule:
    """A rule from a row in the order of `RULE_COLUMNS`."""
    if keep_last is None and keep_for is None and keep_bytes is None and not hold:
        return NO_RULE
    return Rule(keep_last, Duration.parse(keep_for) if keep_for else None, keep_bytes, Then(then), hold)


def values(wanted: Rule) -> dict[str, Any]:
    """The same as values for a statement with `VALUES` or `SET`."""
    for_ = wanted.keep_for
    return {
        "keep_last": wanted.keep_last,
        "keep_for": for_.text if for_ else None,
        "months": for_.months if for_ else None,
        "rest": for_.rest if for_ else None,
        "keep_bytes": wanted.keep_bytes,
        "after_expiry": wanted.then.value,
        "hold": wanted.hold,
    }


_SPAN = "make_interval(months => CAST(:months AS int)) + CAST(:rest AS interval)"
INTO = "keep_last, keep_for, keep_span, keep_bytes, after_expiry, hold"
VALUES = f":keep_last, :keep_for, {_SPAN}, :keep_bytes, :after_expiry, :hold"
SET = f"({INTO}) = ({VALUES})"
"""A rule's columns and its `values`, for an INSERT and for an UPDATE."""
