"""Webhooks as they stand, and what came of their last requests."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

from nestrel.core.webhooks import Failing, Replay, State, Webhook, no_webhook
from nestrel.store import rows
from nestrel.store.native import Connection, fetch
from nestrel.store.read.journal import UNSEEN
from nestrel.store.rows import Wire

COLUMNS = (
    "id, url, type, conversation_id, state, secret, old_secret, old_secret_until, attempt, failing_since, next_at, "
    "replay_from, replay_after, replay_seq, created_by, created_at, begun"
)
_WEBHOOK_PAGE = f"""
SELECT {rows.columns("w", COLUMNS)}, c.cursor FROM nestrel.webhooks w
JOIN nestrel.consumers c ON c.name = 'webhook ' || w.id WHERE w.id > $1 ORDER BY w.id LIMIT $2
"""
_WEBHOOK_ONE = f"""
SELECT {rows.columns("w", COLUMNS)}, c.cursor FROM nestrel.webhooks w
JOIN nestrel.consumers c ON c.name = 'webhook ' || w.id WHERE w.id = $1
"""
_DELIVERIES = """
SELECT at, attempt, status, ms, error, next_at, n FROM nestrel.webhook_deliveries
WHERE webhook_id = $1 AND n < $2 ORDER BY n DESC LIMIT $3
"""
_WEBHOOK_BEHIND = f"""
SELECT extract(epoch FROM clock_timestamp() - min(at))::double precision FROM (
    SELECT at FROM nestrel.journal WHERE {UNSEEN.format("xid", "$1")} AND ($2::uuid IS NULL OR $2 = ANY(ids))
    ORDER BY xid LIMIT 1) j
"""


_WEBHOOK_DONE = """
SELECT count(*) FILTER (WHERE id < $1), count(*) FROM nestrel.conversations
WHERE closed_at IS NULL AND ($2::uuid IS NULL OR id = $2) AND ($3::timestamptz IS NULL OR last_at >= $3)
"""


async def progress(
    connection: Connection, after: UUID, only: UUID | None, since: datetime | None = None
) -> dict[str, int]:
    """How far something has come that goes through conversations by their ids, of those with messages since a time."""
    [(done, of)] = await fetch(connection, _WEBHOOK_DONE, after, only, since)
    return {"conversations": done, "of": of}


def webhook(row: Sequence[Any]) -> Webhook:
    """A webhook from a row that begins with `COLUMNS`."""
    old = (row[6],) if row[6] is not None and row[7] > datetime.now(UTC) else ()
    replay = Replay(row[11], row[12], row[13]) if row[11] is not None else None
    return Webhook(
        row[0], row[1], row[2], row[3], State(row[4]), (row[5], *old), Failing(row[8], row[9], row[10]), replay,
        row[14], row[15], row[16],
    )  # fmt: skip


async def page(connection: Connection, limit: int, after: UUID) -> tuple[list[tuple[Webhook, str]], UUID | None]:
    """Webhooks by id, which is by when they were made, each with its cursor; and the id to continue after."""
    found = [(webhook(row), row[-1]) for row in await fetch(connection, _WEBHOOK_PAGE, after, limit + 1)]
    return found[:limit], found[limit - 1][0].id if len(found) > limit else None


async def one(connection: Connection, id_: UUID) -> tuple[Webhook, str]:
    """A webhook and its cursor. Raises `NotFound`."""
    found = await fetch(connection, _WEBHOOK_ONE, id_)
    if not found:
        raise no_webhook(id_)
    return webhook(found[0]), found[0][-1]


async def deliveries(connection: Connection, id_: UUID, limit: int, before: int) -> tuple[list[Wire], int | None]:
    """What came of the last requests, the newest first, and the number to continue before."""
    found = await fetch(connection, _DELIVERIES, id_, before, limit + 1)
    items: list[Wire] = [
        {
            "at": rows.wire_time(at), "attempt": attempt, "status": status, "ms": ms, "error": error,
            "next_at": rows.wire_time(next_at),
        }
        for at, attempt, status, ms, error, next_at, _ in found[:limit]
    ]  # fmt: skip
    return items, found[limit - 1][-1] if len(found) > limit else None


async def behind(connection: Connection, snapshot: str, conversation_id: UUID | None) -> float:
    """For how many seconds something waits to be sent, as far as the journal knows; 0 if nothing does."""
    return float((await fetch(connection, _WEBHOOK_BEHIND, snapshot, conversation_id))[0][0] or 0.0)
