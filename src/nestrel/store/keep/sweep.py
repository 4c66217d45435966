"""The sweep: takes away what lies below the floor, in bounded steps, each one transaction with its archive segment.

Nobody reads or changes a message below the floor, so a step needs no lock of its conversation. Two sweeps never work
on one conversation: each holds its row of the backlog, and others go past it.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from nestrel.core.retention import Then
from nestrel.store.database import Database
from nestrel.store.keep import archive, records
from nestrel.store.keep.records import Record
from nestrel.store.native import Connection, execute, fetch

_SWEEP_CLAIM = """
SELECT b.conversation_id, b.next_seq, c.floor,
       CASE WHEN b.next_seq < c.earlier_below THEN least(c.earlier_below, c.floor) ELSE c.floor END,
       CASE WHEN b.next_seq < c.earlier_below THEN c.earlier_then ELSE c.after_expiry END
FROM nestrel.expired_backlog b JOIN nestrel.conversations c ON c.id = b.conversation_id
WHERE b.conversation_id > $1 AND NOT c.hold AND c.closed_at IS NULL
ORDER BY b.conversation_id LIMIT 1 FOR UPDATE OF b SKIP LOCKED
"""
_TAKE_AWAY = """
WITH edits AS (DELETE FROM nestrel.message_edits WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3),
counts AS (DELETE FROM nestrel.reaction_counts WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3),
marks AS (DELETE FROM nestrel.reactions WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3),
named AS (DELETE FROM nestrel.mentions WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3),
gone AS (
    DELETE FROM nestrel.messages WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3 RETURNING seq, key_hash
)
INSERT INTO nestrel.expired_keys (conversation_id, key_hash, seq)
SELECT $1, key_hash, seq FROM gone WHERE key_hash IS NOT NULL
"""
# What is archived keeps its attachments, and what it bears stays written.
_SWEEP_LOOSEN = """
WITH gone AS (
    DELETE FROM nestrel.attached WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3 RETURNING attachment_id
)
INSERT INTO nestrel.loosened (conversation_id, attachment_id, expired) SELECT DISTINCT $1, attachment_id, true FROM gone
ON CONFLICT (conversation_id, attachment_id) DO UPDATE SET expired = true
"""
_DISCARDED = """
WITH grown AS (
    UPDATE nestrel.discarded_runs SET last_seq = $3, discarded_at = clock_timestamp()
    WHERE conversation_id = $1 AND last_seq = $2 - 1 RETURNING 1
)
INSERT INTO nestrel.discarded_runs (conversation_id, first_seq, last_seq) SELECT $1, $2, $3 WHERE NOT EXISTS (SELECT
FROM grown)
"""
_DISCARDED_RUNS = """
SELECT first_seq, last_seq, discarded_at FROM nestrel.discarded_runs
WHERE conversation_id = $1 ORDER BY first_seq DESC LIMIT 100
"""
_SWEEP_GO_ON = "UPDATE nestrel.expired_backlog SET next_seq = $2, since = clock_timestamp() WHERE conversation_id = $1"
# Only here is the conversation locked, for the moment until the commit: a post that moves the floor meanwhile waits,
# and then finds no backlog and begins one.
_SWEEP_FINISH = """
WITH swept AS (UPDATE nestrel.conversations SET swept = floor WHERE id = $1 AND floor = $2 RETURNING id)
DELETE FROM nestrel.expired_backlog WHERE conversation_id IN (SELECT id FROM swept) RETURNING 1
"""
_BACKLOG = """
SELECT count(*), coalesce(sum(c.floor - b.next_seq), 0)::bigint,
       coalesce(extract(epoch FROM clock_timestamp() - min(b.since)), 0)::float8
FROM nestrel.expired_backlog b JOIN nestrel.conversations c ON c.id = b.conversation_id WHERE NOT c.hold AND
c.closed_at IS NULL
"""

STEP = 1_000
"""Messages that one step takes away at most."""
SMALL_STEP = 200
"""The same where posts are not to wait for it."""
_STEP_BYTES = 4 * 1024 * 1024
NOTHING = UUID(int=0)


class Step(NamedTuple):
    """What one step did. `full`: there was as much as it takes, and so there may be more."""

    conversation_id: UUID
    messages: int
    then: Then
    full: bool


class Backlog(NamedTuple):
    """What waits: conversations, messages, and the seconds for which the first of them has waited."""

    conversations: int
    messages: int
    seconds: float


async def step(database: Database, after: UUID = NOTHING, most: int = STEP) -> Step | None:
    """Take away up to `most` messages that one conversation has below its floor: the next one behind `after` that no
    other sweep is at. None: there is none."""
    async with database.write() as connection:
        found = await fetch(connection, _SWEEP_CLAIM, after)
        if not found:
            return None
        conversation_id, low, floor, end, then = found[0]
        high = min(low + most, end) - 1
        if high >= low:
            if then == Then.ARCHIVE:
                run = _bounded((await records.read(connection, conversation_id, low, high, most)).lines())
                high = run[-1].seq
                await archive.append(
                    connection, conversation_id, run, lambda: take_away(connection, conversation_id, low, high)
                )
            else:
                await record_discard(connection, conversation_id, low, high)
                await take_away(connection, conversation_id, low, high)
                await execute(connection, _SWEEP_LOOSEN, conversation_id, low, high)
        await record(connection, conversation_id, high + 1, floor)
    return Step(conversation_id, high - low + 1, Then(then), high + 1 < floor)


def _bounded(run: Sequence[Record]) -> Sequence[Record]:
    """As much of a run as is no larger than a segment may be, and one message at least."""
    size = 0
    for n, line in enumerate(run):
        size += len(line.text)
        if size > _STEP_BYTES and n > 0:
            return run[:n]
    return run


async def record_discard(connection: Connection, conversation_id: UUID, first: int, last: int) -> None:
    """Keep that a run of messages was discarded by the rule."""
    await execute(connection, _DISCARDED, conversation_id, first, last)


async def discarded(connection: Connection, conversation_id: UUID) -> list[tuple[int, int, datetime]]:
    """The latest runs that were discarded: first and last `seq`, and when it last grew."""
    return [tuple(row) for row in await fetch(connection, _DISCARDED_RUNS, conversation_id)]


async def take_away(connection: Connection, conversation_id: UUID, first: int, last: int) -> None:
    """Delete a run of expired messages with all that hangs on them. What stays is the hash of each idempotency key:
    a repeat that comes late must not post again."""
    await execute(connection, _TAKE_AWAY, conversation_id, first, last)


async def record(connection: Connection, conversation_id: UUID, next_seq: int, floor: int) -> None:
    """Keep how far the sweep has come in a conversation."""
    if next_seq == floor and await fetch(connection, _SWEEP_FINISH, conversation_id, floor):
        return
    await execute(connection, _SWEEP_GO_ON, conversation_id, next_seq)


async def backlog(connection: Connection) -> Backlog:
    """What still waits to be taken away, but for what is on hold."""
    return Backlog(*(await fetch(connection, _BACKLOG))[0])
