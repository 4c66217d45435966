"""Push subscriptions: the devices of people, by the endpoints that their push services gave them (RFC 8030)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.problems import Forbidden
from nestrel.store import admitted, rows
from nestrel.store.database import Database
from nestrel.store.native import Connection, array, execute, fetch, texts
from nestrel.store.rows import Wire

_SUBSCRIPTION_COLUMNS = "id, user_id, endpoint, p256dh, auth, expires_at, created_at"
# Whoever holds the device now is who is told there: an endpoint goes over with what waits for it taken away. That they
# hold it they show by its secret, which its browser alone has told: an address may be known to others.
_SUBSCRIPTION_PUT = f"""
INSERT INTO nestrel.push_subscriptions AS s (id, user_id, endpoint, p256dh, auth, expires_at, session)
VALUES ($1, $2, $3, $4, $5, $6, $7)
ON CONFLICT (endpoint) DO UPDATE
SET id = CASE WHEN s.user_id = excluded.user_id THEN s.id ELSE excluded.id END, user_id = excluded.user_id,
    p256dh = excluded.p256dh, auth = excluded.auth, expires_at = excluded.expires_at, session = excluded.session,
    created_at = CASE WHEN s.user_id = excluded.user_id THEN s.created_at ELSE excluded.created_at END
WHERE s.user_id = excluded.user_id OR (s.auth = excluded.auth AND s.p256dh = excluded.p256dh)
RETURNING {_SUBSCRIPTION_COLUMNS}
"""
_TAKEN_OVER = """
DELETE FROM nestrel.push_again a USING nestrel.push_subscriptions s
WHERE s.endpoint = $1 AND s.user_id <> $2 AND s.auth = $3 AND s.p256dh = $4 AND a.subscription_id = s.id
"""
_FEWER = f"""
DELETE FROM nestrel.push_subscriptions WHERE user_id = $1 AND id <> $2 AND id NOT IN (
    SELECT id FROM nestrel.push_subscriptions WHERE user_id = $1 ORDER BY id DESC LIMIT {limits.PUSH_SUBSCRIPTIONS})
"""
_SUBSCRIPTION_PAGE = f"""
SELECT {_SUBSCRIPTION_COLUMNS} FROM nestrel.push_subscriptions WHERE user_id = $1 AND id > $2 ORDER BY id LIMIT $3
"""
_SUBSCRIPTION_DELETE = "DELETE FROM nestrel.push_subscriptions WHERE id = $1 AND user_id = $2"
_DROP = "DELETE FROM nestrel.push_subscriptions WHERE id = ANY($1::text::uuid[])"
_SUBSCRIPTION_OF_PERSON = "DELETE FROM nestrel.push_subscriptions WHERE user_id = $1"
_OF_SESSION = "DELETE FROM nestrel.push_subscriptions WHERE session = $1"
_OF_PEOPLE = f"""
SELECT {_SUBSCRIPTION_COLUMNS} FROM nestrel.push_subscriptions
WHERE user_id = ANY($1::text::text[]) AND (expires_at IS NULL OR expires_at > clock_timestamp()) ORDER BY id
"""
_SUBSCRIPTION_ANY = "SELECT 1 FROM nestrel.push_subscriptions LIMIT 1"
_SUBSCRIPTION_KEEP = """
INSERT INTO nestrel.push_again (subscription_id, conversation_id, seq, attempt, next_at)
SELECT i.id, i.place, i.seq, i.attempt, clock_timestamp() + make_interval(secs => i.wait)
FROM unnest($1::text::uuid[], $2::text::uuid[], $3::text::bigint[], $4::text::int[], $5::text::float8[])
     AS i (id, place, seq, attempt, wait)
JOIN nestrel.push_subscriptions s ON s.id = i.id
ON CONFLICT (subscription_id, conversation_id, seq) DO UPDATE
SET attempt = excluded.attempt, next_at = excluded.next_at
"""
_SUBSCRIPTION_DONE = """
DELETE FROM nestrel.push_again a
USING unnest($1::text::uuid[], $2::text::uuid[], $3::text::bigint[]) AS i (id, place, seq)
WHERE a.subscription_id = i.id AND a.conversation_id = i.place AND a.seq = i.seq
"""
_SUBSCRIPTION_OVER = f"""
DELETE FROM nestrel.push_again a USING (
    SELECT w.subscription_id, w.conversation_id, w.seq,
           row_number() OVER (PARTITION BY s.user_id ORDER BY w.seq DESC, w.conversation_id, w.subscription_id) AS n
    FROM nestrel.push_subscriptions s JOIN nestrel.push_again w ON w.subscription_id = s.id
    WHERE s.user_id = ANY($1::text::text[])
) o
WHERE o.n > {limits.PUSH_WAITING} AND a.subscription_id = o.subscription_id AND a.conversation_id = o.conversation_id
  AND a.seq = o.seq
"""
# Claimed by putting it off: whoever is killed in the middle of it has left it to be done. Everybody who waits has a
# turn before anybody has another.
_SUBSCRIPTION_CLAIM = f"""
WITH turns AS (
    SELECT a.subscription_id, a.conversation_id, a.seq, a.next_at,
           row_number() OVER (PARTITION BY s.user_id ORDER BY a.next_at) AS turn
    FROM nestrel.push_again a JOIN nestrel.push_subscriptions s ON s.id = a.subscription_id
    WHERE a.next_at <= clock_timestamp()
), next AS (
    SELECT subscription_id, conversation_id, seq FROM turns ORDER BY turn, next_at LIMIT $1
), due AS (
    SELECT a.subscription_id, a.conversation_id, a.seq FROM nestrel.push_again a JOIN next n
      ON a.subscription_id = n.subscription_id AND a.conversation_id = n.conversation_id AND a.seq = n.seq
    WHERE a.next_at <= clock_timestamp() FOR UPDATE OF a SKIP LOCKED
), claimed AS (
    UPDATE nestrel.push_again a SET next_at = clock_timestamp() + make_interval(secs => $2::float8)
    FROM due d WHERE (a.subscription_id, a.conversation_id, a.seq) = (d.subscription_id, d.conversation_id, d.seq)
    RETURNING a.subscription_id, a.conversation_id, a.seq, a.attempt
)
SELECT c.conversation_id, c.seq, c.attempt, {rows.columns("s", _SUBSCRIPTION_COLUMNS)}
FROM claimed c JOIN nestrel.push_subscriptions s ON s.id = c.subscription_id
ORDER BY c.conversation_id, c.seq
"""


@dataclass(frozen=True, slots=True)
class Subscription:
    """A device: where it is told, and the keys with which what it is told is encrypted (RFC 8291)."""

    id: UUID
    user_id: str
    endpoint: str
    p256dh: bytes
    auth: bytes
    expires_at: datetime | None
    created_at: datetime

    def wire(self) -> Wire:
        return {
            "subscription_id": str(self.id),
            "user_id": self.user_id,
            "endpoint": self.endpoint,
            "expires_at": rows.wire_time(self.expires_at),
            "created_at": rows.wire_time(self.created_at),
        }


@dataclass(frozen=True, slots=True)
class Parcel:
    """A message of which a device is to be told, after so many attempts."""

    subscription: Subscription
    conversation_id: UUID
    seq: int
    attempt: int = 0


async def put(database: Database, caller: Caller, wanted: Subscription) -> tuple[Subscription, bool]:
    """Keep a device, or keep it up to date; it is nobody else's from now on. It ends with the browser's session in
    which that was asked for. The subscription, and whether it is new; beyond the newest `limits.PUSH_SUBSCRIPTIONS` of
    a person older ones go.

    Raises:
        Forbidden: it is another's, and the keys are not those that its browser has; or as `nestrel.store.admitted`.
        Unauthenticated: as that.
    """
    one, session = wanted, caller.session
    async with database.write() as connection:
        await admitted.hold(connection, one.user_id)
        await admitted.check(connection, caller)
        await execute(connection, _TAKEN_OVER, one.endpoint, one.user_id, one.auth, one.p256dh)
        values = (one.id, one.user_id, one.endpoint, one.p256dh, one.auth, one.expires_at, session)
        found = await fetch(connection, _SUBSCRIPTION_PUT, *values)
        if not found:
            raise Forbidden("another person's device is at this address; subscribe anew in this browser")
        kept = Subscription(*found[0])
        await execute(connection, _FEWER, one.user_id, kept.id)
    return kept, kept.id == one.id


async def page(connection: Connection, user_id: str, limit: int, after: UUID) -> tuple[list[Subscription], UUID | None]:
    """The devices of somebody, the oldest first, and the id to continue after; None at the end."""
    found = [Subscription(*row) for row in await fetch(connection, _SUBSCRIPTION_PAGE, user_id, after, limit + 1)]
    return found[:limit], found[limit - 1].id if len(found) > limit else None


async def delete(database: Database, user_id: str, id_: UUID) -> None:
    """Tell a device of somebody's nothing more; nothing happens to what is not there."""
    async with database.write() as connection:
        await execute(connection, _SUBSCRIPTION_DELETE, id_, user_id)


async def end_person(connection: Connection, user_id: str) -> None:
    """Tell somebody's devices nothing more: they are signed out, or suspended."""
    await admitted.hold(connection, user_id)
    await execute(connection, _SUBSCRIPTION_OF_PERSON, user_id)


async def end_session(connection: Connection, user_id: str, session: bytes) -> None:
    """Tell the browser of somebody whose session has ended nothing more."""
    await admitted.hold(connection, user_id)
    await execute(connection, _OF_SESSION, session)


async def drop(database: Database, ids: Sequence[UUID]) -> None:
    """Forget devices that their push services know no more."""
    async with database.write() as connection:
        await execute(connection, _DROP, array(ids))


async def of(connection: Connection, user_ids: Sequence[str]) -> list[Subscription]:
    """The devices of some people."""
    return [Subscription(*row) for row in await fetch(connection, _OF_PEOPLE, texts(user_ids))] if user_ids else []


async def any_there(connection: Connection) -> bool:
    """Whether anybody has a device."""
    return bool(await fetch(connection, _SUBSCRIPTION_ANY))


async def keep(database: Database, parcels: Sequence[tuple[Parcel, float]]) -> None:
    """Write down what is to be told once more, each in how many seconds; of one person not more than
    `limits.PUSH_WAITING`."""
    if parcels:
        async with database.write() as connection:
            waits = [str(wait) for _, wait in parcels]
            await execute(connection, _SUBSCRIPTION_KEEP, *_keys([one for one, _ in parcels]),
                          array([one.attempt for one, _ in parcels]), array(waits))  # fmt: skip
            await execute(connection, _SUBSCRIPTION_OVER, texts(list({one.subscription.user_id for one, _ in parcels})))


async def done(database: Database, parcels: Sequence[Parcel]) -> None:
    """It was told, or will not be."""
    if parcels:
        async with database.write() as connection:
            await execute(connection, _SUBSCRIPTION_DONE, *_keys(parcels))


async def claim(database: Database, most: int, seconds: float) -> list[Parcel]:
    """Some that are due once more; whoever claims them has so many seconds for it."""
    async with database.write() as connection:
        found = await fetch(connection, _SUBSCRIPTION_CLAIM, most, seconds)
    return [Parcel(Subscription(*row[3:]), row[0], row[1], row[2]) for row in found]


def _keys(parcels: Sequence[Parcel]) -> tuple[str, str, str]:
    return (
        array([one.subscription.id for one in parcels]),
        array([one.conversation_id for one in parcels]),
        array([one.seq for one in parcels]),
    )
