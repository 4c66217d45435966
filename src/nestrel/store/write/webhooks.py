"""Webhooks: made, changed and taken away; and what a holder of one's lease writes of it."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.problems import OverQuota, invalid
from nestrel.core.rights import no_conversation
from nestrel.core.times import format_time
from nestrel.core.webhooks import OLD_SECRET, Failing, Replay, State, Webhook, no_webhook
from nestrel.store import admitted
from nestrel.store.database import Database
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.read.webhooks import COLUMNS, webhook
from nestrel.store.write import audit

_WEBHOOK_MAKE = f"""
INSERT INTO nestrel.webhooks (id, url, type, conversation_id, secret, created_by, begun)
SELECT $1, $2, $3, $4, $5, $6, $7 WHERE (SELECT count(*) FROM nestrel.webhooks) < {limits.WEBHOOKS}
RETURNING {COLUMNS}
"""
_WEBHOOK_ENLIST = "INSERT INTO nestrel.consumers (name, cursor) VALUES ($1, $2)"
_WEBHOOK_PLACE = "SELECT 1 FROM nestrel.conversations WHERE id = $1 AND closed_at IS NULL"
_WEBHOOK_HOLD = "SELECT 1 FROM nestrel.consumers WHERE name = $1 FOR UPDATE"
_WEBHOOK_LOCK = f"SELECT {COLUMNS} FROM nestrel.webhooks WHERE id = $1 FOR UPDATE"
# Who goes on, or has another address, is tried at once.
_WEBHOOK_CHANGE = f"""
UPDATE nestrel.webhooks SET url = $2, state = $3, attempt = 0, failing_since = NULL, next_at = NULL,
    secret = coalesce($4, secret), old_secret = CASE WHEN $4 IS NULL THEN old_secret ELSE secret END,
    old_secret_until = CASE WHEN $4 IS NULL THEN old_secret_until ELSE clock_timestamp() + $5::interval END
WHERE id = $1 RETURNING {COLUMNS}
"""
# Whoever holds the lease has it no more: what it is in the middle of is not kept, and the next one reads what is new.
_FREE = """
UPDATE nestrel.consumers SET wanted = $2, lease = lease + 1, holder = NULL, held_until = '-infinity',
    cursor = coalesce($3, cursor)
WHERE name = $1 RETURNING cursor
"""
_WEBHOOK_DELETE = "DELETE FROM nestrel.webhooks WHERE id = $1 RETURNING 1"
_DISCHARGE = "DELETE FROM nestrel.consumers WHERE name = $1"
_WEBHOOK_FORGET = "DELETE FROM nestrel.webhook_deliveries WHERE webhook_id = $1"
_REPLAY = """
UPDATE nestrel.webhooks SET replay_from = $2, replay_after = '00000000-0000-0000-0000-000000000000', replay_seq = 0
WHERE id = $1
"""
_ANEW = "UPDATE nestrel.webhooks SET begun = NULL, replay_from = NULL WHERE id = $1"
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
_REPLAYED = """
UPDATE nestrel.webhooks w SET replay_from = $3, replay_after = $4, replay_seq = $5
FROM nestrel.consumers c WHERE w.id = $1 AND c.name = 'webhook ' || w.id AND c.lease = $2 AND c.wanted RETURNING 1
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
        if conversation_id is not None and not await fetch(connection, _WEBHOOK_PLACE, conversation_id):
            raise no_conversation(conversation_id)
        found = await fetch(connection, _WEBHOOK_MAKE, id_, url, type_, conversation_id, secret, caller.user_id, cursor)
        if not found:
            raise OverQuota(
                f"there are {limits.WEBHOOKS} webhooks already; delete one",
                extra={"quota": "webhooks", "limit": limits.WEBHOOKS},
            )
        await execute(connection, _WEBHOOK_ENLIST, consumer(id_), cursor)
        after = {"webhook_id": str(id_), "type": type_}
        await audit.record(connection, caller, Act.WEBHOOK_MADE, conversation_id=conversation_id, after=after)
    return webhook(found[0])


async def _locked(connection: Connection, id_: UUID) -> Webhook:
    # In the order in which `note` does: otherwise each would wait for the other.
    await fetch(connection, _WEBHOOK_HOLD, consumer(id_))
    found = await fetch(connection, _WEBHOOK_LOCK, id_)
    if not found:
        raise no_webhook(id_)
    return webhook(found[0])


async def change(
    database: Database, caller: Caller, id_: UUID, url: str | None, state: State | None, secret: bytes | None
) -> tuple[Webhook, str]:
    """Change what is given, and free it from whoever holds it; the webhook and its cursor. Raises `NotFound`."""
    async with database.write() as connection:
        before = await _locked(connection, id_)
        await admitted.check(connection, caller)
        values = (url or before.url, (state or before.state).value, secret, OLD_SECRET)
        after = webhook((await fetch(connection, _WEBHOOK_CHANGE, id_, *values))[0])
        [(cursor,)] = await fetch(connection, _FREE, consumer(id_), after.state is State.ACTIVE, None)
        await audit.record(
            connection, caller, Act.WEBHOOK_CHANGED, conversation_id=before.conversation_id,
            before={"webhook_id": str(id_), "state": before.state},
            after={"state": after.state, "url": url is not None, "secret": secret is not None},
        )  # fmt: skip
    return after, cursor


async def delete(database: Database, caller: Caller, id_: UUID) -> None:
    """Take a webhook away; one that is not there is taken away already."""
    async with database.write() as connection:
        await execute(connection, _DISCHARGE, consumer(id_))
        if await fetch(connection, _WEBHOOK_DELETE, id_):
            await execute(connection, _WEBHOOK_FORGET, id_)
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
            await execute(connection, _REPLAY, id_, since)
        if everything:
            if before.type == "notices":
                raise invalid("/from", "a webhook of notices is sent none again from the start; give a time")
            await execute(connection, _ANEW, id_)
        await fetch(connection, _FREE, consumer(id_), before.state is State.ACTIVE, cursor)
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
        return bool(await fetch(connection, _REPLAYED, id_, lease, *_columns(rest)))


def _columns(replay_: Replay | None) -> tuple[datetime | None, UUID | None, int | None]:
    return (replay_.since, replay_.after, replay_.seq) if replay_ is not None else (None, None, None)
