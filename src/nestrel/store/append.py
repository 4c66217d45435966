"""Post messages: the one way in, for every door. SQL here; the decisions are `nestrel.core.posting`."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from operator import attrgetter
from typing import Any, NamedTuple
from uuid import UUID

from nestrel.core.posting import Accepted, Facts, Locked, Post, Repeated, plan
from nestrel.core.problems import Problem
from nestrel.core.roles import Kind, Role, Visibility
from nestrel.store import events, rows
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection, array, copy_in, execute, fetch
from nestrel.store.rows import MESSAGE_COLUMNS, Wire

# Conversations are locked in the order of their ids, so that transactions wait for each other and never in a ring.
_LOCK = """
SELECT id, kind, visibility, head, floor, rev, last_at, closed_at IS NOT NULL
FROM conversations WHERE id = ANY($1::text::uuid[]) ORDER BY id FOR NO KEY UPDATE
"""

# A statement of its own, after the locks are held: under READ COMMITTED it then sees the repeat that another
# transaction has just committed. Each lookup is a lateral one so that it can only be an index scan per post.
_FACTS = """
SELECT m.role, k.seq, k.fingerprint, i.reply_to IS NULL OR r.seq IS NOT NULL, coalesce(a.author_n, 0),
       p.display_name, p.picture, p.rev, CASE WHEN i.n = 1 THEN clock_timestamp() END
FROM unnest($1::text::uuid[], $2::text[], $3::bytea[], $4::text::bigint[])
     WITH ORDINALITY AS i (conversation_id, author_id, key_hash, reply_to, n)
LEFT JOIN LATERAL (SELECT role FROM members
    WHERE conversation_id = i.conversation_id AND user_id = i.author_id AND left_at IS NULL LIMIT 1) m ON true
LEFT JOIN LATERAL (SELECT seq, fingerprint FROM messages
    WHERE conversation_id = i.conversation_id AND key_hash = i.key_hash LIMIT 1) k ON true
LEFT JOIN LATERAL (SELECT t.seq FROM messages t JOIN conversations c ON c.id = t.conversation_id
    WHERE t.conversation_id = i.conversation_id AND t.seq = i.reply_to AND t.seq >= c.floor LIMIT 1) r ON true
LEFT JOIN LATERAL (SELECT author_n FROM messages
    WHERE conversation_id = i.conversation_id AND author_id = i.author_id ORDER BY seq DESC LIMIT 1) a ON true
LEFT JOIN LATERAL (SELECT display_name, picture, rev FROM profiles
    WHERE user_id = i.author_id LIMIT 1) p ON true
ORDER BY i.n
"""

_COLUMNS = (
    "conversation_id", "seq", "rev", "author_n", "created_at", "author_id", "body", "format", "attributes",
    "reply_to", "key_hash", "fingerprint",
)  # fmt: skip

_MOVE = """
WITH moved AS (
    UPDATE conversations c
    SET head = u.head, rev = u.rev, last_at = u.last_at, message_count = message_count + u.added,
        moved_xid = pg_current_xact_id()
    FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::timestamptz[], $5::text::bigint[])
         AS u (id, head, rev, last_at, added)
    WHERE c.id = u.id
)
SELECT pg_notify($6, payload) FROM unnest($7::text[]) payload
"""

_REPEATS = f"""
SELECT i.n, {rows.columns("m", MESSAGE_COLUMNS)}
FROM unnest($1::uuid[], $2::bigint[]) WITH ORDINALITY AS i (conversation_id, seq, n)
JOIN messages m ON m.conversation_id = i.conversation_id AND m.seq = i.seq
"""


# A lookup, where calling the enumeration would cost more for each row.
_ROLES: dict[str | None, Role | None] = {None: None, **{role.value: role for role in Role}}
_KINDS = {kind.value: kind for kind in Kind}
_VISIBILITIES = {visibility.value: visibility for visibility in Visibility}


@dataclass(slots=True)
class Growth:
    """What one transaction added to one conversation: all its changes after `rev_before` up to `rev`."""

    conversation_id: UUID
    rev_before: int
    rev: int
    head: int
    floor: int
    name: str
    messages: list[Wire] = field(default_factory=list)
    profiles: dict[str, Wire] = field(default_factory=dict)


class Posted(NamedTuple):
    """The answer to one post: the message, and whether it is new or the repeat of an earlier one."""

    message: Wire
    new: bool


Answer = list[Posted] | Problem


async def append(
    database: Database, connection: Connection, units: Sequence[Sequence[Post]]
) -> tuple[list[Answer], list[Growth]]:
    """Write a batch in the caller's transaction; the posts of a unit are for one conversation. Answers come in the
    order of `units`; they hold once the transaction has committed."""
    ids = sorted({unit[0].conversation_id for unit in units}, key=attrgetter("int"))
    locked = {
        id_: Locked(id_, _KINDS[kind], _VISIBILITIES[visibility], head, floor, rev, last_at, closed)
        for id_, kind, visibility, head, floor, rev, last_at, closed in await fetch(connection, _LOCK, array(ids))
    }
    posts = [post for unit in units for post in unit]
    found = await fetch(
        connection,
        _FACTS,
        array([post.conversation_id for post in posts]),
        [post.author_id for post in posts],
        [post.key_hash for post in posts],
        array([post.reply_to for post in posts]),
    )
    facts = iter([Facts(_ROLES[row[0]], row[1], row[2], row[3], row[4]) for row in found])
    decided = plan(units, facts, locked, found[0][8])
    growths: dict[Locked, Growth] = {}
    messages: list[Wire] = []
    if decided.accepted:
        profiles = {post.author_id: row for post, row in zip(posts, found, strict=True)}
        growths, messages = _growths(decided.accepted, profiles)
        await _write(database, connection, decided.accepted, growths)
    wanted = [
        one for unit in decided.units if not isinstance(unit, Problem) for one in unit if isinstance(one, Repeated)
    ]
    repeats = await _repeats(connection, wanted) if wanted else {}
    new = iter(messages)
    return [unit if isinstance(unit, Problem) else _answer(unit, new, repeats) for unit in decided.units], list(
        growths.values()
    )


def _growths(accepted: Sequence[Accepted], facts: dict[str, Sequence[Any]]) -> tuple[dict[Locked, Growth], list[Wire]]:
    """What each conversation gains, and the messages in the order of `accepted`."""
    growths: dict[Locked, Growth] = {}
    messages: list[Wire] = []
    for place, post, seq, rev, created_at, _ in accepted:
        growth = growths.get(place)
        if growth is None:
            growth = Growth(place.id, place.rev_before, place.rev, place.head, place.floor, str(place.id))
            growths[place] = growth
        row = (seq, rev, post.author_id, post.body, post.format, post.attributes, post.reply_to, created_at,
               None, 0, None, None)  # fmt: skip
        message = rows.message(growth.name, row)
        messages.append(message)
        growth.messages.append(message)
        if post.author_id not in growth.profiles:
            known = facts[post.author_id]
            growth.profiles[post.author_id] = rows.profile(post.author_id, known[5], known[6], known[7])
    return growths, messages


async def _write(
    database: Database,
    connection: Connection,
    accepted: Sequence[Accepted],
    growths: dict[Locked, Growth],
) -> None:
    """Two statements: the rows by COPY, which costs both sides about half of an INSERT, and all that moves."""
    records = [
        (place.id, seq, rev, author_n, at, post.author_id, post.body, post.format, post.attributes, post.reply_to,
         post.key_hash, post.fingerprint)
        for place, post, seq, rev, at, author_n in accepted
    ]  # fmt: skip
    await copy_in(connection, "messages", _COLUMNS, records)
    moved = [Moved(place.id, place.rev) for place in growths]
    await execute(
        connection,
        _MOVE,
        array([growth.name for growth in growths.values()]),
        array([place.head for place in growths]),
        array([place.rev for place in growths]),
        array([place.last_at for place in growths]),
        array([len(growth.messages) for growth in growths.values()]),
        events.CHANNEL,
        database.announcement(connection, moved, to_self=False),
    )


async def _repeats(connection: Connection, repeated: Sequence[Repeated]) -> dict[tuple[UUID, int], Wire]:
    """The messages of repeated keys as they now stand, edited or removed as they may be."""
    found = await fetch(connection, _REPEATS, [one.conversation_id for one in repeated], [one.seq for one in repeated])
    return {
        (repeated[row[0] - 1].conversation_id, row[1]): rows.message(str(repeated[row[0] - 1].conversation_id), row[1:])
        for row in found
    }


def _answer(
    unit: Sequence[Accepted | Repeated], new: Iterator[Wire], repeats: dict[tuple[UUID, int], Wire]
) -> list[Posted]:
    return [
        Posted(next(new), True) if isinstance(one, Accepted) else Posted(repeats[one.conversation_id, one.seq], False)
        for one in unit
    ]
