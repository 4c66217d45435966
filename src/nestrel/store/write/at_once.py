"""The short way of a few posts into one conversation of which everything is remembered: one statement, which writes
if the conversation still stands as this process left it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from uuid import UUID

from nestrel.core import limits
from nestrel.core.commands import Command, Post
from nestrel.core.locked import Locked
from nestrel.core.planning import Plan, Taken, plan
from nestrel.core.posting import Accepted
from nestrel.core.problems import Problem
from nestrel.store import epochs
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection, array, fetch, hashes, texts
from nestrel.store.write import answers, apply, audit, facts
from nestrel.store.write.answers import Answer, Growth
from nestrel.store.write.batch import Learned, learned_of
from nestrel.store.write.facts import BatchFacts
from nestrel.store.write.memory import Memory

# Whoever holds the conversation is not waited for, and whoever has changed it since has left another `rev` or guard:
# then nothing is written, and the long way decides. The time is the database's, under the lock.
_MOVE_AND_POST = f"""
WITH held AS (
    SELECT id FROM nestrel.conversations c
    WHERE id = $1 AND rev = $2 AND guard = $3 AND {epochs.CURRENT} = $4 FOR NO KEY UPDATE SKIP LOCKED
), moved AS (
    UPDATE nestrel.conversations c
    SET head = $5, rev = $6, last_at = greatest(c.last_at, clock_timestamp()), message_count = $7, kept_bytes = $8,
        moved_xid = pg_current_xact_id(), {epochs.stamp("c")}
    FROM held WHERE c.id = held.id
    RETURNING c.last_at
), posted AS (
    INSERT INTO nestrel.messages (conversation_id, seq, rev, author_n, created_at, author_id, body, format, attributes,
                                  reply_to, key_hash, fingerprint)
    SELECT $1, p.seq, p.rev, p.author_n, moved.last_at, p.author_id, p.body, p.format, p.attributes, p.reply_to,
           p.key_hash, p.fingerprint
    FROM moved, unnest($9::text::bigint[], $10::text::bigint[], $11::text::bigint[], $12::text::text[], $13::text[],
                       $14::text[], $15::text[], $16::text::bigint[], $17::text::bytea[], $18::text::bytea[])
         AS p (seq, rev, author_n, author_id, body, format, attributes, reply_to, key_hash, fingerprint)
), told AS (
    SELECT pg_notify($19, payload) FROM moved, unnest($20::text[]) payload
)"""
_ANSWER = "SELECT moved.last_at, (SELECT count(*) FROM told) FROM moved"
_POST = f"{_MOVE_AND_POST} {_ANSWER}"
# The same where a backend speaks for somebody, which the audit has to say.
_COUNTED = audit.COUNT.format(*(f"${n}" for n in range(21, 28)))
_POST_FOR = f"{_MOVE_AND_POST}, counted AS (SELECT {_COUNTED} FROM moved) {_ANSWER}, counted"


async def write(
    database: Database, units: Sequence[Sequence[Command]], followed: Callable[[UUID], bool], memory: Memory
) -> tuple[list[Answer], list[Growth], Learned] | None:
    """Write a batch by one statement, as `batch.write` would; None, and nothing is written, where that cannot be.

    Raises:
        asyncpg.UniqueViolationError: a key that was not asked for, as it seemed new, has been used (`constraints.KEY`).
        StoreUnavailable: the database is away.
    """
    posts = _posts(units)
    place = memory.place(posts[0].conversation_id.int) if posts else None
    if place is None:
        return None
    shown = {place.id.int} if followed(place.id) else set[int]()
    known, before = BatchFacts(), (place.rev, place.guard)
    if not facts.recall(known, posts, place, shown, memory):
        return None
    decided = plan(units, known.facts, {place.id.int: place}, place.last_at)
    if len(decided.accepted) != len(posts) or not _stays(place):
        return None
    async with database.write_at_once() as connection:
        at = await _write(database, connection, place, before, decided.accepted)
        if at is None:
            connection.told.clear()
            return None
        place.last_at = at
        _give_time(decided, at)
        objects = await answers.objects(connection, decided, shown)
        growths = await answers.growths(connection, decided, known, objects, {}, shown)
    posted = iter(objects.posted)
    given = [answers.answer(unit, objects, posted) for unit in decided.units]
    return given, list(growths.values()), [(place, learned_of(place, known))]


def _posts(units: Sequence[Sequence[Command]]) -> list[Post]:
    """The posts of a batch, if it is of a few into one conversation and of nothing else."""
    if sum(map(len, units)) > limits.AT_ONCE:
        return []
    number = units[0][0].conversation_id.int
    posts = [
        command
        for unit in units
        for command in unit
        if isinstance(command, Post)
        and command.conversation_id.int == number
        and not command.imported
        and command.created_at is None
        and not command.mentions
        and not command.attachments
    ]
    return posts if len(posts) == sum(map(len, units)) else []


def _stays(place: Locked) -> bool:
    """Whether its rule leaves the floor where it is; what goes by age is the clock's to say."""
    return place.rule.keep_for is None and not place.rule.excess(place.messages, place.size)


def _give_time(decided: Plan, at: datetime) -> None:
    """Planned without a clock, and all taken: the time is that of the statement."""
    units = [
        [one._replace(created_at=at) for one in unit if isinstance(one, Accepted)]
        for unit in decided.units
        if not isinstance(unit, Problem)
    ]
    decided.accepted = [one for unit in units for one in unit]
    decided.units = list[Taken | Problem](units)


async def _write(
    database: Database, connection: Connection, place: Locked, before: tuple[int, int], accepted: Sequence[Accepted]
) -> datetime | None:
    done = apply.posted_for(accepted)
    found = await fetch(
        connection,
        _POST_FOR if done else _POST,
        place.id,
        *before,
        place.epoch,
        place.head,
        place.rev,
        place.messages,
        place.size,
        array([one.seq for one in accepted]),
        array([one.rev for one in accepted]),
        array([one.author_n for one in accepted]),
        texts([one.post.author_id for one in accepted]),
        [one.post.body for one in accepted],
        [one.post.format for one in accepted],
        [one.post.attributes for one in accepted],
        array([one.reply_to for one in accepted]),
        hashes([one.post.key_hash for one in accepted]),
        hashes([one.post.fingerprint for one in accepted]),
        database.channel,
        database.announcement(connection, [Moved(place.id, place.rev)], to_self=False),
        *(audit.columns(done) if done else ()),
    )
    return found[0][0] if found else None
