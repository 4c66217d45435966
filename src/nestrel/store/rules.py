"""Retention rules in rows, and the floor as it stands at this instant."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from typing import Any
from uuid import UUID

from nestrel.core import retention as core
from nestrel.core.durations import Duration
from nestrel.core.retention import NO_RULE, Inherited, Rule, Then, Version
from nestrel.core.roles import Kind
from nestrel.store.native import Connection, array, execute, fetch

RULE_COLUMNS = "keep_last, keep_for, keep_bytes, after_expiry, hold"

SIZE = "(octet_length(body) + coalesce(octet_length(attributes), 0) + coalesce(attached_bytes, 0))"
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


def values(wanted: Rule) -> tuple[Any, ...]:
    """The same as values for a statement with `placed`."""
    for_ = wanted.keep_for
    return (
        wanted.keep_last,
        for_.text if for_ else None,
        for_.months if for_ else None,
        for_.rest if for_ else None,
        wanted.keep_bytes,
        wanted.then.value,
        wanted.hold,
    )


INTO = "keep_last, keep_for, keep_span, keep_bytes, after_expiry, hold"
THEN = 6
"""The columns of a rule, and which of its `values` is `after_expiry`."""


def placed() -> str:
    """SQL for `values`, in the order of `INTO`, where they are a statement's first: `$1` to `$7`."""
    span = "make_interval(months => CAST($3 AS int)) + CAST($4 AS interval)"
    return f"CAST($1 AS bigint), CAST($2 AS text), {span}, CAST($5 AS bigint), CAST($6 AS text), CAST($7 AS boolean)"


_SERVICE_RULE = f"SELECT version, {RULE_COLUMNS} FROM nestrel.service_rule ORDER BY version DESC LIMIT 1"
_INHERITED = f"""
SELECT s.*, k.* FROM ({_SERVICE_RULE}) s
LEFT JOIN LATERAL (SELECT version, {RULE_COLUMNS}, cleared FROM nestrel.kind_rules
    WHERE kind = $1 ORDER BY version DESC LIMIT 1) k ON true
"""
# A bound from below on when the next message expires: the sweep looks then, and finds the next bound. Rows are written
# in the order of their ids, as conversations are locked: two who do so never wait for each other in a ring.
_DUE = """
WITH bound AS (
    SELECT c.id, greatest(coalesce((SELECT created_at FROM nestrel.messages WHERE conversation_id = c.id AND seq =
    c.floor),
                                   clock_timestamp()) + c.keep_span, clock_timestamp() + interval '1 second') AS at
    FROM nestrel.conversations c
    WHERE c.id = ANY($1::text::uuid[]) AND c.keep_span IS NOT NULL AND NOT c.hold AND c.closed_at IS NULL
), held AS MATERIALIZED (
    SELECT conversation_id FROM nestrel.expiry_due WHERE conversation_id = ANY($1::text::uuid[])
    ORDER BY conversation_id FOR UPDATE
), gone AS (
    DELETE FROM nestrel.expiry_due
    WHERE conversation_id IN (SELECT conversation_id FROM held) AND conversation_id NOT IN (SELECT id FROM bound)
)
INSERT INTO nestrel.expiry_due (conversation_id, due_at) SELECT id, at FROM bound ORDER BY id
ON CONFLICT (conversation_id) DO UPDATE SET due_at = excluded.due_at
"""


async def service_rule(connection: Connection) -> Rule:
    """The rule of conversations that have none of their own, nor of their kind."""
    [(_, *found)] = await fetch(connection, _SERVICE_RULE)
    return rule(*found)


async def inherited(connection: Connection, kind: Kind) -> Inherited:
    """The rule of conversations of a kind that have none of their own."""
    [row] = await fetch(connection, _INHERITED, kind.value)
    of_kind = None if row[6] is None else Version(row[6], rule(*row[7:12]), row[12])
    return core.inherited(Version(row[0], rule(*row[1:6])), of_kind)


async def mark_due(connection: Connection, ids: Sequence[UUID]) -> None:
    """Say when the sweep has to look at conversations for what has grown old; never, for those without such a rule."""
    await execute(connection, _DUE, array(ids))
