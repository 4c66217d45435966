"""Adds what a process has counted to the stored usage."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta
from uuid import UUID

from nestrel.core.usage import Counted, Followed
from nestrel.store.database import Database
from nestrel.store.native import Connection, array, execute, fetch, texts

_USAGE_TELL = """
INSERT INTO nestrel.usage_told AS t (node, n) VALUES ($1, $2)
ON CONFLICT (node) DO UPDATE SET n = excluded.n, told_at = clock_timestamp() WHERE t.n < excluded.n RETURNING 1
"""
# In the order of the keys, as each process adds to rows of all. Whoever was erased is counted as nobody in particular.
_COMMANDS = """
INSERT INTO nestrel.usage_commands AS u
    (hour, conversation_id, user_id, posts, edits, removals, reactions, receipts)
SELECT $1, w.conversation_id, w.who, sum(posts), sum(edits), sum(removals), sum(reactions), sum(receipts) FROM (
    SELECT *, CASE WHEN EXISTS (SELECT FROM nestrel.erased_identities) AND nestrel.erased_v1(user_id) THEN ''
                   ELSE user_id END AS who
    FROM unnest($2::text::uuid[], $3::text::text[], $4::text::bigint[], $5::text::bigint[],
                $6::text::bigint[], $7::text::bigint[], $8::text::bigint[])
         AS u (conversation_id, user_id, posts, edits, removals, reactions, receipts)) w
GROUP BY w.conversation_id, w.who ORDER BY w.conversation_id, w.who
ON CONFLICT (hour, conversation_id, user_id) DO UPDATE
SET posts = u.posts + excluded.posts, edits = u.edits + excluded.edits, removals = u.removals + excluded.removals,
    reactions = u.reactions + excluded.reactions, receipts = u.receipts + excluded.receipts
"""
_USAGE_PLACES = """
INSERT INTO nestrel.usage_places AS u (hour, conversation_id, deliveries, stored_bytes, connections_peak)
SELECT $1, w.conversation_id, w.deliveries, c.kept_bytes, greatest(f.n, p.n)
FROM unnest($2::text::uuid[], $3::text::bigint[]) AS w (conversation_id, deliveries)
LEFT JOIN nestrel.conversations c ON c.id = w.conversation_id
LEFT JOIN nestrel.usage_follow_peaks p ON p.conversation_id = w.conversation_id AND p.hour = $1
LEFT JOIN LATERAL (SELECT coalesce(sum(n), 0)::integer AS n FROM nestrel.usage_follows
    WHERE conversation_id = w.conversation_id) f ON true
ORDER BY w.conversation_id
ON CONFLICT (hour, conversation_id) DO UPDATE
SET deliveries = u.deliveries + excluded.deliveries, stored_bytes = excluded.stored_bytes,
    connections_peak = greatest(u.connections_peak, excluded.connections_peak)
"""
# Who follows is not a row of an hour by itself: a client that comes back follows thousands. The most of an hour is kept
# aside for each conversation, before and after a change of it, and goes into the hour's row where there is one or will
# be.
_FOLLOW_PEAKS = """
INSERT INTO nestrel.usage_follow_peaks AS p (conversation_id, hour, n)
SELECT conversation_id, $1, sum(n) FROM nestrel.usage_follows WHERE conversation_id = ANY($2::text::uuid[])
GROUP BY conversation_id ORDER BY conversation_id
ON CONFLICT (conversation_id) DO UPDATE
SET hour = excluded.hour, n = CASE WHEN p.hour = excluded.hour THEN greatest(p.n, excluded.n) ELSE excluded.n END
"""
# As many as followed at most since it was last told; those who do now are told behind it.
_FOLLOWS = """
INSERT INTO nestrel.usage_follows AS f (conversation_id, node, n)
SELECT w.conversation_id, $1, w.n FROM unnest($2::text::uuid[], $3::text::int[]) AS w (conversation_id, n)
WHERE w.n > 0 ON CONFLICT (conversation_id, node) DO UPDATE SET n = excluded.n
"""
_FOLLOWS_NO_MORE = """
DELETE FROM nestrel.usage_follows f USING unnest($2::text::uuid[], $3::text::int[]) AS w (conversation_id, n)
WHERE w.n = 0 AND f.conversation_id = w.conversation_id AND f.node = $1
"""
_PLACE_PEAKS = """
UPDATE nestrel.usage_places u SET connections_peak = p.n FROM (
    SELECT u.ctid, p.n FROM nestrel.usage_places u
    JOIN nestrel.usage_follow_peaks p ON p.conversation_id = u.conversation_id AND p.hour = u.hour
    WHERE u.hour = $1 AND u.conversation_id = ANY($2::text::uuid[]) AND u.connections_peak < p.n
    ORDER BY u.conversation_id FOR UPDATE OF u
) p WHERE u.ctid = p.ctid
"""
_FOLLOWS_LEFT = "DELETE FROM nestrel.usage_follows WHERE node = $1"
_FOLLOWS_BURIED = """
DELETE FROM nestrel.usage_follows f WHERE NOT EXISTS (SELECT FROM nestrel.processes p WHERE p.node = f.node)
"""
_FOLLOW_PEAKS_OLD = "DELETE FROM nestrel.usage_follow_peaks WHERE hour < clock_timestamp() - interval '2 hours'"
_USAGE_PEOPLE = """
INSERT INTO nestrel.usage_people AS u (hour, user_id, deliveries, connections_peak)
SELECT $1, w.* FROM unnest($2::text::text[], $3::text::bigint[], $4::text::int[]) AS w (user_id, deliveries, peak)
WHERE NOT EXISTS (SELECT FROM nestrel.erased_identities) OR NOT nestrel.erased_v1(w.user_id)
ORDER BY w.user_id
ON CONFLICT (hour, user_id) DO UPDATE
SET deliveries = u.deliveries + excluded.deliveries,
    connections_peak = greatest(u.connections_peak, excluded.connections_peak)
"""
_SAMPLE = """
INSERT INTO nestrel.usage_samples AS s (slot, node, n) VALUES ($1, $2, $3)
ON CONFLICT (slot, node) DO UPDATE SET n = greatest(s.n, excluded.n)
"""
_PEAK = """
INSERT INTO nestrel.usage_hours AS h (hour, connections_peak)
SELECT $1, coalesce(sum(n), 0) FROM nestrel.usage_samples WHERE slot = $2
ON CONFLICT (hour) DO UPDATE SET connections_peak = greatest(h.connections_peak, excluded.connections_peak)
"""
_SAMPLES_OLD = "DELETE FROM nestrel.usage_samples WHERE slot < $1"
# The sum over all is looked at once an hour, by whoever is first, for the hour that has just ended.
_STORED = """
INSERT INTO nestrel.usage_hours AS h (hour, stored_bytes)
SELECT $1, coalesce(sum(kept_bytes), 0) FROM nestrel.conversations WHERE closed_at IS NULL
ON CONFLICT (hour) DO UPDATE SET stored_bytes = coalesce(h.stored_bytes, excluded.stored_bytes)
"""
_STORED_YET = "SELECT 1 FROM nestrel.usage_hours WHERE hour = $1 AND stored_bytes IS NOT NULL"
_FORGET = [
    f"""
    DELETE FROM nestrel.{table} WHERE ctid = ANY(ARRAY(
        SELECT ctid FROM nestrel.{table} WHERE hour < clock_timestamp() - $1::interval LIMIT 5000))
    """
    for table in ("usage_commands", "usage_people", "usage_places", "usage_hours")
]
_FORGET_NODES = "DELETE FROM nestrel.usage_told WHERE told_at < clock_timestamp() - interval '1 day'"

SLOT_SECONDS = 10


async def add(
    database: Database, node: str, n: int, counted: Sequence[Counted], peaks: Mapping[str, int], now: float
) -> None:
    """Add what was counted, all of it or nothing; the `n`th time of a process, which again does nothing. `peaks` are
    connections of people in the hour of `now`, which is in seconds since 1970."""
    async with database.write() as connection:
        if not await fetch(connection, _USAGE_TELL, node, n):
            return
        for hour in counted:
            await _add_hour(connection, hour)
        if peaks:
            users = list(peaks)
            await execute(
                connection, _USAGE_PEOPLE, _moment(now - now % 3600), texts(users), array([0] * len(users)),
                array([peaks[user_id] for user_id in users]),
            )  # fmt: skip


async def _add_hour(connection: Connection, counted: Counted) -> None:
    hour = _moment(counted.hour)
    if counted.commands:
        keys = list(counted.commands)
        await execute(
            connection,
            _COMMANDS,
            hour,
            array([place for place, _ in keys]),
            texts([user_id for _, user_id in keys]),
            *(array([counted.commands[key][kind] for key in keys]) for kind in range(5)),
        )
    places: dict[UUID, int] = {place: 0 for place, _ in counted.commands}
    places |= counted.by_place
    if places:
        await execute(connection, _USAGE_PLACES, hour, array(list(places)), array(list(places.values())))
    if counted.by_person:
        users = list(counted.by_person)
        await execute(
            connection,
            _USAGE_PEOPLE,
            hour,
            texts(users),
            array(list(counted.by_person.values())),
            array([0] * len(users)),
        )


async def follow(database: Database, node: str, news: Mapping[UUID, Followed], now: float) -> None:
    """Say how many connections of a process follow conversations, 0 for none any more, and how many did at most since
    the last time."""
    hour, places = _moment(now - now % 3600), array(list(news))
    present, most = array([one.now for one in news.values()]), array([one.most for one in news.values()])
    async with database.write() as connection:
        await execute(connection, _FOLLOW_PEAKS, hour, places)
        await execute(connection, _FOLLOWS, node, places, most)
        await execute(connection, _FOLLOW_PEAKS, hour, places)
        await execute(connection, _FOLLOWS, node, places, present)
        await execute(connection, _FOLLOWS_NO_MORE, node, places, present)
        await execute(connection, _PLACE_PEAKS, hour, places)


async def leave(database: Database, node: str) -> None:
    """Nobody follows anything in a process."""
    async with database.read() as connection:
        await execute(connection, _FOLLOWS_LEFT, node)


async def sample(database: Database, node: str, connections: int, now: float) -> None:
    """Say how many connections a process has; the most that all have together at one time is kept by the hour."""
    slot, hour = int(now // SLOT_SECONDS), now - now % 3600
    async with database.write() as connection:
        await execute(connection, _SAMPLE, slot, node, connections)
        await execute(connection, _PEAK, _moment(hour), slot)
        await execute(connection, _SAMPLES_OLD, slot - 360)


async def look(database: Database, now: float) -> None:
    """Note what was stored at the end of the hour before, if nobody has."""
    before = _moment(now - now % 3600 - 3600)
    async with database.write() as connection:
        if not await fetch(connection, _STORED_YET, before):
            await execute(connection, _STORED, before)


async def forget(database: Database, days: int) -> None:
    """Forget what is older, some at a time."""
    async with database.read() as connection:
        for statement in _FORGET:
            await execute(connection, statement, timedelta(days=days))
        for statement in (_FORGET_NODES, _FOLLOWS_BURIED, _FOLLOW_PEAKS_OLD):
            await execute(connection, statement)


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(int(seconds), UTC)
