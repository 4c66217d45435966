"""Webhooks as they stand, and what came of their last requests."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import NamedTuple
from uuid import UUID

import sqlalchemy as sa

from nestrel.core.webhooks import Failing, Replay, State, Webhook, no_webhook
from nestrel.store import rows
from nestrel.store.composed import Query
from nestrel.store.native import Connection, fetch
from nestrel.store.read.journal import UNSEEN
from nestrel.store.rows import Wire
from nestrel.store.tables.base import Moment
from nestrel.store.tables.consuming import consumers, webhook_deliveries, webhooks
from nestrel.store.tables.conversations import conversations

ROW = [
    webhooks.c[name]
    for name in (
        "id", "url", "type", "conversation_id", "state", "secret", "old_secret", "old_secret_until", "attempt",
        "failing_since", "next_at", "replay_from", "replay_after", "replay_seq", "created_by", "created_at", "begun",
    )
]  # fmt: skip
"""What a `webhook` is made of."""


def webhook(
    id_: UUID, url: str, type_: str, conversation_id: UUID | None, state: str, secret: bytes, old_secret: bytes | None,
    old_secret_until: datetime | None, attempt: int, failing_since: datetime | None, next_at: datetime | None,
    replay_from: datetime | None, replay_after: UUID, replay_seq: int, created_by: str, created_at: datetime,
    begun: str | None,
) -> Webhook:  # fmt: skip
    """A webhook from the columns of `ROW`."""
    signs_too = old_secret_until is not None and old_secret_until > datetime.now(UTC)
    old = (old_secret,) if old_secret is not None and signs_too else ()
    replay = Replay(replay_from, replay_after, replay_seq) if replay_from is not None else None
    return Webhook(
        id_, url, type_, conversation_id, State(state), (secret, *old), Failing(attempt, failing_since, next_at),
        replay, created_by, created_at, begun,
    )  # fmt: skip


class Delivery(NamedTuple):
    """What came of one request; `n` numbers them."""

    at: datetime
    attempt: int
    status: int | None
    ms: int
    error: str | None
    next_at: datetime | None
    n: int

    def wire(self) -> Wire:
        return {
            "at": rows.wire_time(self.at),
            "attempt": self.attempt,
            "status": self.status,
            "ms": self.ms,
            "error": self.error,
            "next_at": rows.wire_time(self.next_at),
        }


NAME = sa.literal("webhook ").concat(sa.cast(webhooks.c.id, sa.Text))
"""What a webhook is called as a consumer."""

_STANDS = sa.select(*ROW, consumers.c.cursor).join_from(webhooks, consumers, consumers.c.name == NAME)
_ONLY, _SINCE = sa.bindparam("only", type_=sa.Uuid), sa.bindparam("since", type_=Moment)
_ANY = sa.func.count()

WEBHOOK_PAGE = Query(
    _STANDS.where(webhooks.c.id > sa.bindparam("after")).order_by(webhooks.c.id).limit(sa.bindparam("limit")),
    lambda *row: (webhook(*row[:-1]), row[-1]),
)
WEBHOOK_ONE = Query(_STANDS.where(webhooks.c.id == sa.bindparam("id")), lambda *row: (webhook(*row[:-1]), row[-1]))
WEBHOOK_DELIVERIES = Query(
    sa.select(*(webhook_deliveries.c[name] for name in Delivery._fields))
    .where(webhook_deliveries.c.webhook_id == sa.bindparam("id"), webhook_deliveries.c.n < sa.bindparam("before"))
    .order_by(webhook_deliveries.c.n.desc())
    .limit(sa.bindparam("limit")),
    Delivery,
)
CONVERSATIONS_DONE = Query(
    sa.select(_ANY.filter(conversations.c.id < sa.bindparam("after")), _ANY)
    .select_from(conversations)
    .where(
        conversations.c.closed_at.is_(None),
        sa.or_(_ONLY.is_(None), conversations.c.id == _ONLY),
        sa.or_(_SINCE.is_(None), conversations.c.last_at >= _SINCE),
    ),
    lambda done, of: {"conversations": int(done), "of": int(of)},
)
# As text: what a snapshot sees, for which SQLAlchemy has no words.
_WEBHOOK_BEHIND = f"""
SELECT extract(epoch FROM clock_timestamp() - min(at))::double precision FROM (
    SELECT at FROM nestrel.journal WHERE {UNSEEN.format("xid", "$1")} AND ($2::uuid IS NULL OR $2 = ANY(ids))
    ORDER BY xid LIMIT 1) j
"""


async def progress(
    connection: Connection, after: UUID, only: UUID | None, since: datetime | None = None
) -> dict[str, int]:
    """How far something has come that goes through conversations by their ids, of those with messages since a time."""
    [found] = await CONVERSATIONS_DONE.fetch(connection, after=after, only=only, since=since)
    return found


async def page(connection: Connection, limit: int, after: UUID) -> tuple[list[tuple[Webhook, str]], UUID | None]:
    """Webhooks by id, which is by when they were made, each with its cursor; and the id to continue after."""
    found = await WEBHOOK_PAGE.fetch(connection, after=after, limit=limit + 1)
    return found[:limit], found[limit - 1][0].id if len(found) > limit else None


async def one(connection: Connection, id_: UUID) -> tuple[Webhook, str]:
    """A webhook and its cursor. Raises `NotFound`."""
    found = await WEBHOOK_ONE.first(connection, id=id_)
    if found is None:
        raise no_webhook(id_)
    return found


async def deliveries(connection: Connection, id_: UUID, limit: int, before: int) -> tuple[list[Wire], int | None]:
    """What came of the last requests, the newest first, and the number to continue before."""
    found = await WEBHOOK_DELIVERIES.fetch(connection, id=id_, before=before, limit=limit + 1)
    return [one.wire() for one in found[:limit]], found[limit - 1].n if len(found) > limit else None


async def behind(connection: Connection, snapshot: str, conversation_id: UUID | None) -> float:
    """For how many seconds something waits to be sent, as far as the journal knows; 0 if nothing does."""
    return float((await fetch(connection, _WEBHOOK_BEHIND, snapshot, conversation_id))[0][0] or 0.0)
