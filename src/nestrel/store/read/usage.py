"""Usage, by hour or day."""

from __future__ import annotations

from datetime import datetime
from enum import StrEnum
from typing import Any, NamedTuple
from uuid import UUID

from nestrel.store import rows
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire


class Of(StrEnum):
    """What usage is asked of."""

    SERVICE = "service"
    CONVERSATION = "conversation"
    PERSON = "person"


class UsageFilter(NamedTuple):
    """Which usage: since (inclusive) and until (exclusive), by `hour` or `day`, of what, and of which of them."""

    since: datetime
    until: datetime
    by: str
    of: Of
    id: str | None


_SUMS = ", ".join(
    f"coalesce(sum({name}), 0)::bigint AS {name}" for name in ("posts", "edits", "removals", "reactions", "receipts")
)
_WITHIN = "hour >= $1 AND hour < $2"


def _at(column: str = "hour") -> str:
    return f"date_trunc($3, {column}, 'UTC')"


# Each part by period and id; what there is in one of them is a row of the answer.
_OF_SERVICE = f"""
WITH commands AS (SELECT {_at()} AS at, {_SUMS} FROM nestrel.usage_commands WHERE {_WITHIN} GROUP BY 1),
places AS (SELECT {_at()} AS at, sum(deliveries)::bigint AS deliveries FROM nestrel.usage_places
    WHERE {_WITHIN} GROUP BY 1),
hours AS (SELECT {_at()} AS at, max(connections_peak) AS peak,
    (array_agg(stored_bytes ORDER BY hour DESC) FILTER (WHERE stored_bytes IS NOT NULL))[1] AS stored
    FROM nestrel.usage_hours WHERE {_WITHIN} GROUP BY 1),
people AS (SELECT at, count(*) AS people FROM (
    SELECT {_at()} AS at, user_id FROM nestrel.usage_commands WHERE {_WITHIN}
    UNION SELECT {_at()}, user_id FROM nestrel.usage_people WHERE {_WITHIN}) x GROUP BY 1),
present AS (SELECT at FROM commands UNION SELECT at FROM places UNION SELECT at FROM people)
SELECT at, NULL AS id, c.posts, c.edits, c.removals, c.reactions, c.receipts, d.deliveries, h.peak, p.people,
       CASE WHEN at = {_at("clock_timestamp()")} THEN
           (SELECT sum(kept_bytes) FROM nestrel.conversations WHERE closed_at IS NULL)::bigint ELSE h.stored
       END AS stored
FROM present LEFT JOIN commands c USING (at) LEFT JOIN places d USING (at) LEFT JOIN hours h USING (at)
LEFT JOIN people p USING (at)
WHERE $4::text IS NULL AND (at, '') > ($5, $6) ORDER BY at LIMIT $7
"""
_OF_CONVERSATION = f"""
WITH commands AS (SELECT {_at()} AS at, conversation_id AS id, {_SUMS}, count(DISTINCT user_id) AS people
    FROM nestrel.usage_commands WHERE {_WITHIN} AND ($4::text IS NULL OR conversation_id = $4::uuid) GROUP BY 1, 2),
places AS (SELECT {_at()} AS at, conversation_id AS id, sum(deliveries)::bigint AS deliveries,
    max(connections_peak) AS peak, (array_agg(stored_bytes ORDER BY hour DESC))[1] AS stored
    FROM nestrel.usage_places WHERE {_WITHIN} AND ($4::text IS NULL OR conversation_id = $4::uuid) GROUP BY 1, 2)
SELECT at, id::text, c.posts, c.edits, c.removals, c.reactions, c.receipts, d.deliveries, d.peak, c.people, d.stored
FROM commands c FULL JOIN places d USING (at, id)
WHERE (at, id::text) > ($5, $6) ORDER BY at, id::text LIMIT $7
"""
_USAGE_OF_PERSON = f"""
WITH commands AS (SELECT {_at()} AS at, user_id AS id, {_SUMS}
    FROM nestrel.usage_commands WHERE {_WITHIN} AND ($4::text IS NULL OR user_id = $4) GROUP BY 1, 2),
people AS (SELECT {_at()} AS at, user_id AS id, sum(deliveries)::bigint AS deliveries, max(connections_peak) AS peak
    FROM nestrel.usage_people WHERE {_WITHIN} AND ($4::text IS NULL OR user_id = $4) GROUP BY 1, 2),
page AS (SELECT at, id, c.posts, c.edits, c.removals, c.reactions, c.receipts, p.deliveries, p.peak
    FROM commands c FULL JOIN people p USING (at, id)
    WHERE id <> '' AND (at, id) > ($5, $6) ORDER BY at, id LIMIT $7)
SELECT page.*, 1 AS people,
       (SELECT coalesce(sum(octet_length(m.body) + coalesce(octet_length(m.attributes), 0)
            + coalesce(m.attached_bytes, 0)), 0)
        FROM nestrel.members i
        JOIN nestrel.messages m ON m.conversation_id = i.conversation_id AND m.author_id = page.id
        WHERE i.user_id = page.id AND m.removed_at IS NULL
          AND m.created_at < page.at + ('1 ' || $3)::interval)::bigint AS stored
FROM page ORDER BY at, id
"""
_STATEMENTS = {Of.SERVICE: _OF_SERVICE, Of.CONVERSATION: _OF_CONVERSATION, Of.PERSON: _USAGE_OF_PERSON}

FIELDS = ("posts", "edits", "removals", "reactions", "receipts", "deliveries", "connections_peak", "people",
          "stored_bytes")  # fmt: skip


class UsagePosition(NamedTuple):
    """A place in a list of usage."""

    at: datetime
    id: str


async def page(
    connection: Connection, wanted: UsageFilter, limit: int, after: UsagePosition | None
) -> tuple[list[Wire], UsagePosition | None]:
    """Periods in which something was used, in order, by id within each; and the place to continue behind."""
    if wanted.of is Of.CONVERSATION and wanted.id is not None:
        UUID(wanted.id)
    behind = after or UsagePosition(datetime.min.replace(tzinfo=wanted.since.tzinfo, year=1970), "")
    found = await fetch(
        connection, _STATEMENTS[wanted.of], wanted.since, wanted.until, wanted.by, wanted.id, *behind, limit + 1
    )
    items = [_wire(row) for row in found[:limit]]
    last = found[limit - 1] if len(found) > limit else None
    return items, None if last is None else UsagePosition(last[0], last[1] or "~")


def _wire(row: Any) -> Wire:
    values = {name: row[2 + n] or 0 for n, name in enumerate(FIELDS)}
    return {"at": rows.wire_time(row[0]), "id": row[1], **values}
