"""Webhooks: made, changed and taken away; and what a holder of one's lease writes of it."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple
from uuid import UUID

import sqlalchemy as sa

from nestrel.core import limits
from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.problems import OverQuota, invalid
from nestrel.core.rights import no_conversation
from nestrel.core.times import format_time
from nestrel.core.webhooks import OLD_SECRET, Failing, Replay, State, Webhook, no_webhook
from nestrel.store import admitted
from nestrel.store.composed import Change, Query, only
from nestrel.store.database import Database
from nestrel.store.native import Connection, fetch
from nestrel.store.read.webhooks import NAME, ROW, webhook
from nestrel.store.tables.base import NOW
from nestrel.store.tables.consuming import consumers, webhook_deliveries, webhooks
from nestrel.store.tables.conversations import conversations
from nestrel.store.write import audit

_OF_ID = webhooks.c.id == sa.bindparam("id")
_NAMED = consumers.c.name == sa.bindparam("name")
_ALL = sa.select(sa.func.count()).select_from(webhooks).scalar_subquery()
_MADE = [webhooks.c[name] for name in ("id", "url", "type", "conversation_id", "secret", "created_by", "begun")]
_SECRET = sa.bindparam("new_secret", type_=sa.LargeBinary)

WEBHOOK_MAKE = Query(
    sa.insert(webhooks)
    .from_select(
        [column.name for column in _MADE],
        sa.select(*(sa.bindparam(column.name, type_=column.type) for column in _MADE)).where(_ALL < limits.WEBHOOKS),
    )
    .returning(*ROW),
    webhook,
)
CONSUMER_ENLIST = Change(sa.insert(consumers).values(name=sa.bindparam("name"), cursor=sa.bindparam("cursor")))
CONVERSATION_IS_OPEN = Query(
    sa.select(conversations.c.id).where(
        conversations.c.id == sa.bindparam("conversation_id"), conversations.c.closed_at.is_(None)
    ),
    only,
)
CONSUMER_HOLD = Query(sa.select(consumers.c.name).where(_NAMED).with_for_update(), only)
WEBHOOK_LOCK = Query(sa.select(*ROW).where(_OF_ID).with_for_update(), webhook)
# Who goes on, or has another address, is tried at once.
WEBHOOK_CHANGE = Query(
    sa.update(webhooks)
    .where(_OF_ID)
    .values(
        url=sa.bindparam("new_url"),
        state=sa.bindparam("new_state"),
        attempt=0,
        failing_since=sa.null(),
        next_at=sa.null(),
        secret=sa.func.coalesce(_SECRET, webhooks.c.secret),
        old_secret=sa.case((_SECRET.is_(None), webhooks.c.old_secret), else_=webhooks.c.secret),
        old_secret_until=sa.case((_SECRET.is_(None), webhooks.c.old_secret_until), else_=NOW + sa.literal(OLD_SECRET)),
    )
    .returning(*ROW),
    webhook,
)
# Whoever holds the lease has it no more: what it is in the middle of is not kept, and the next one reads what is new.
CONSUMER_FREE = Query(
    sa.update(consumers)
    .where(_NAMED)
    .values(
        wanted=sa.bindparam("is_wanted"),
        lease=consumers.c.lease + 1,
        holder=sa.null(),
        held_until=sa.literal_column("'-infinity'::timestamptz"),
        cursor=sa.func.coalesce(sa.bindparam("new_cursor", type_=sa.Text), consumers.c.cursor),
    )
    .returning(consumers.c.cursor),
    only,
)
WEBHOOK_DELETE = Query(sa.delete(webhooks).where(_OF_ID).returning(webhooks.c.id), only)
CONSUMER_DISCHARGE = Change(sa.delete(consumers).where(_NAMED))
WEBHOOK_FORGET = Change(sa.delete(webhook_deliveries).where(webhook_deliveries.c.webhook_id == sa.bindparam("id")))
WEBHOOK_REPLAY = Change(
    sa.update(webhooks).where(_OF_ID).values(replay_from=sa.bindparam("since"), replay_after=UUID(int=0), replay_seq=0)
)
WEBHOOK_ANEW = Change(sa.update(webhooks).where(_OF_ID).values(begun=sa.null(), replay_from=sa.null()))
WEBHOOK_REPLAYED = Query(
    sa.update(webhooks)
    .where(
        _OF_ID,
        consumers.c.name == NAME,
        consumers.c.lease == sa.bindparam("held_lease"),
        consumers.c.wanted,
    )
    .values(replay_from=sa.bindparam("since"), replay_after=sa.bindparam("after"), replay_seq=sa.bindparam("seq"))
    .returning(webhooks.c.id),
    only,
)
# As text: four statements in one, each of which goes by the first.
_NOTE = f"""
WITH held AS (
    UPDATE nestrel.consumers
    SET cursor = coalesce($3::text, cursor), kept_at = clock_timestamp(), wanted = $11::boolean
    WHERE name = 'webhook ' || $1::uuid AND lease = $2::bigint AND wanted RETURNING 1
), noted AS (
    INSERT INTO nestrel.webhook_deliveries (webhook_id, at, attempt, status, ms, error, next_at)
    SELECT $1::uuid, $4::timestamptz, $5::int, $6::int, $7::int, $8::text, $9::timestamptz FROM held RETURNING n
), gone AS (
    DELETE FROM nestrel.webhook_deliveries d USING noted
    WHERE d.webhook_id = $1::uuid AND d.n <= noted.n - {limits.WEBHOOK_DELIVERIES}
), stands AS (
    UPDATE nestrel.webhooks
    SET failing_since = $10::timestamptz, next_at = $9::timestamptz,
        attempt = CASE WHEN $10::timestamptz IS NULL THEN 0 ELSE $5::int END,
        state = CASE WHEN $11::boolean THEN state ELSE 'stopped' END,
        replay_from = CASE WHEN $12::boolean THEN $13::timestamptz END,
        replay_after = CASE WHEN $12::boolean THEN $14::uuid END,
        replay_seq = CASE WHEN $12::boolean THEN $15::bigint END
    FROM held WHERE id = $1::uuid
)
SELECT 1 FROM held
"""


def consumer(id_: UUID) -> str:
    """The name of a webhook as a consumer."""
    return f"webhook {id_}"


def id_of(name: str) -> UUID:
    """The webhook that a consumer is."""
    return UUID(name.removeprefix("webhook "))


class Outcome(NamedTuple):
    """What came of a request at a time, and where the webhook stands after it: at `cursor` if that has moved, `failing`
    or not, replaying or not; one that is `stopped` is sent to no more."""

    at: datetime
    attempt: int
    status: int | None
    ms: int
    error: str | None
    failing: Failing
    cursor: str | None = None
    replay: Replay | None = None
    stopped: bool = False


async def make(
    database: Database, caller: Caller, id_: UUID, url: str, type_: str, conversation_id: UUID | None, secret: bytes,
    cursor: str,
) -> Webhook:  # fmt: skip
    """Make a webhook that begins at a cursor.

    Raises:
        NotFound: its conversation is not there.
        OverQuota: there are as many as there may be.
    """
    async with database.write() as connection:
        await admitted.check(connection, caller)
        if conversation_id is not None and not await CONVERSATION_IS_OPEN.fetch(
            connection, conversation_id=conversation_id
        ):
            raise no_conversation(conversation_id)
        made = await WEBHOOK_MAKE.first(
            connection, id=id_, url=url, type=type_, conversation_id=conversation_id, secret=secret,
            created_by=caller.user_id, begun=cursor,
        )  # fmt: skip
        if made is None:
            raise OverQuota(
                f"there are {limits.WEBHOOKS} webhooks already; delete one",
                extra={"quota": "webhooks", "limit": limits.WEBHOOKS},
            )
        await CONSUMER_ENLIST.run(connection, name=consumer(id_), cursor=cursor)
        after = {"webhook_id": str(id_), "type": type_}
        await audit.record(connection, caller, Act.WEBHOOK_MADE, conversation_id=conversation_id, after=after)
    return made


async def _locked(connection: Connection, id_: UUID) -> Webhook:
    # In the order in which `note` does: otherwise each would wait for the other.
    await CONSUMER_HOLD.fetch(connection, name=consumer(id_))
    found = await WEBHOOK_LOCK.first(connection, id=id_)
    if found is None:
        raise no_webhook(id_)
    return found


async def change(
    database: Database, caller: Caller, id_: UUID, url: str | None, state: State | None, secret: bytes | None
) -> tuple[Webhook, str]:
    """Change what is given, and free it from whoever holds it; the webhook and its cursor. Raises `NotFound`."""
    async with database.write() as connection:
        before = await _locked(connection, id_)
        await admitted.check(connection, caller)
        [after] = await WEBHOOK_CHANGE.fetch(
            connection, id=id_, new_url=url or before.url, new_state=(state or before.state).value, new_secret=secret
        )
        [cursor] = await CONSUMER_FREE.fetch(
            connection, name=consumer(id_), is_wanted=after.state is State.ACTIVE, new_cursor=None
        )
        await audit.record(
            connection, caller, Act.WEBHOOK_CHANGED, conversation_id=before.conversation_id,
            before={"webhook_id": str(id_), "state": before.state},
            after={"state": after.state, "url": url is not None, "secret": secret is not None},
        )  # fmt: skip
    return after, cursor


async def delete(database: Database, caller: Caller, id_: UUID) -> None:
    """Take a webhook away; one that is not there is taken away already."""
    async with database.write() as connection:
        await CONSUMER_DISCHARGE.run(connection, name=consumer(id_))
        if await WEBHOOK_DELETE.fetch(connection, id=id_):
            await WEBHOOK_FORGET.run(connection, id=id_)
            await audit.record(connection, caller, Act.WEBHOOK_DELETED, before={"webhook_id": str(id_)})


async def replay(
    database: Database,
    caller: Caller,
    id_: UUID,
    cursor: str | None,
    since: datetime | None,
    *,
    everything: bool = False,
) -> None:
    """Send again what came behind a cursor of its own, or messages made since a time; or `everything`, from a cursor
    that has seen nothing.

    Raises:
        NotFound: there is no such webhook.
        InvalidRequest: it is one of notices, which nobody wants to be told of again.
    """
    async with database.write() as connection:
        before = await _locked(connection, id_)
        if since is not None:
            await WEBHOOK_REPLAY.run(connection, id=id_, since=since)
        if everything:
            if before.type == "notices":
                raise invalid("/from", "a webhook of notices is sent none again from the start; give a time")
            await WEBHOOK_ANEW.run(connection, id=id_)
        await CONSUMER_FREE.fetch(
            connection, name=consumer(id_), is_wanted=before.state is State.ACTIVE, new_cursor=cursor
        )
        after = {"webhook_id": str(id_), "from": "start" if everything else since and format_time(since)}
        await audit.record(connection, caller, Act.WEBHOOK_REPLAYED, after=after)


async def note(database: Database, id_: UUID, lease: int, came: Outcome) -> bool:
    """Write down what came of a request, and where the webhook stands by it, as the holder of its lease; False, and
    nothing is written, if that is somebody else's by now."""
    async with database.write_at_once() as connection:
        found = await fetch(
            connection, _NOTE, id_, lease, came.cursor, came.at, came.attempt, came.status, came.ms, came.error,
            came.failing.next_at, came.failing.since, not came.stopped, came.replay is not None, *_columns(came.replay),
        )  # fmt: skip
    return bool(found)


async def replayed(database: Database, id_: UUID, lease: int, rest: Replay | None) -> bool:
    """Write down what is left of a replay where nothing was to be sent; False as `note`."""
    async with database.write_at_once() as connection:
        since, after, seq = _columns(rest)
        return bool(
            await WEBHOOK_REPLAYED.fetch(connection, id=id_, held_lease=lease, since=since, after=after, seq=seq)
        )


def _columns(replay_: Replay | None) -> tuple[datetime | None, UUID | None, int | None]:
    return (replay_.since, replay_.after, replay_.seq) if replay_ is not None else (None, None, None)
