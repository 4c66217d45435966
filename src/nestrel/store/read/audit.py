"""The audit as it is read: newest first."""

from __future__ import annotations

from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

import orjson

from nestrel.core.audit import ids_of
from nestrel.core.audit_text import words
from nestrel.store import rows
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire

LAST = UUID(int=2**128 - 1)

_AUDIT_PAGE = """
SELECT a.audit_id, a.at, a.actor, a.act, a.conversation_id, a.user_id, a.seq, a.before, a.after, r.reason, a.request_id,
       a.times
FROM nestrel.audit a LEFT JOIN nestrel.audit_reasons r ON r.audit_id = a.audit_id
WHERE a.audit_id < $1 AND ($2::timestamptz IS NULL OR a.at >= CASE WHEN a.times IS NULL THEN $2
    ELSE date_trunc('hour', $2::timestamptz, 'UTC') END) AND ($3::timestamptz IS NULL OR a.at < $3)
  AND ($4::text IS NULL OR a.actor = $4) AND ($5::uuid IS NULL OR a.conversation_id = $5)
ORDER BY a.audit_id DESC LIMIT $6
"""


class AuditFilter(NamedTuple):
    """Which acts: since (inclusive), until (exclusive), whose, and in which conversation."""

    since: datetime | None
    until: datetime | None
    actor: str | None
    conversation_id: UUID | None


async def page(connection: Connection, wanted: AuditFilter, limit: int, after: UUID) -> tuple[list[Wire], UUID | None]:
    """Acts, newest first, and the id to continue behind; None at the end."""
    found = await fetch(connection, _AUDIT_PAGE, after, *wanted, limit + 1)
    last = found[limit - 1][0] if len(found) > limit else None
    return [_wire(row) for row in found[:limit]], last


def _wire(row: Any) -> Wire:
    given, own = ids_of(row[10])
    before, after = (None if one is None else orjson.loads(one) for one in row[7:9])
    if row[11] is not None:
        after = {"count": row[11]}
    return {
        "audit_id": str(row[0]),
        "at": rows.wire_time(row[1]),
        "actor": row[2],
        "act": row[3],
        "conversation_id": None if row[4] is None else str(row[4]),
        "user_id": row[5],
        "seq": row[6],
        "before": before,
        "after": after,
        "reason": row[9],
        "text": words(row[3], before, after),
        "request_id": given,
        "own_request_id": own,
    }
