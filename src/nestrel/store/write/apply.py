"""What the write path writes once it has decided: rows by COPY, everything that changed once, and all that moves."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any
from uuid import UUID

from nestrel.core import limits
from nestrel.core.audit import Act
from nestrel.core.commands import Earlier, Post
from nestrel.core.locked import Locked, MemberState, MessageState
from nestrel.core.planning import Plan
from nestrel.core.posting import Accepted
from nestrel.store import epochs, rows
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection, array, copy_in, execute, fetch, hashes, texts
from nestrel.store.rows import MEMBER_COLUMNS, Wire
from nestrel.store.write import attaching, audit, expiry, naming
from nestrel.store.write.audit import Done
from nestrel.store.write.expiry import Measured

_COLUMNS = (
    "conversation_id", "seq", "rev", "author_n", "created_at", "author_id", "body", "format", "attributes",
    "reply_to", "key_hash", "fingerprint", "removed_at", "removed_by",
)  # fmt: skip
_EDITED = ("edited_at", "edits")
_NAMING = ("mentions", "attachments", "attached_bytes")
_EARLIER_COLUMNS = ("conversation_id", "seq", "n", "body", "format", "created_at", "edited_at", "editor_id")
_REACTION_COLUMNS = ("conversation_id", "seq", "symbol", "user_id", "created_at")
_COUNT_COLUMNS = ("conversation_id", "seq", "symbol", "count", "since", "rev")

_APPLY_CHANGE = """
UPDATE nestrel.messages m
SET rev = u.rev, changed = true, moved_xid = pg_current_xact_id(), body = u.body, format = u.format,
    edited_at = u.edited_at, edits = u.edits, removed_at = u.removed_at, removed_by = u.removed_by,
    mentions = u.mentions::text[], attachments = u.attachments, attached_bytes = u.attached_bytes,
    attributes = CASE WHEN u.emptied THEN NULL ELSE m.attributes END,
    fingerprint = CASE WHEN u.emptied THEN NULL ELSE m.fingerprint END
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text[], $5::text[],
            $6::text::timestamptz[], $7::text::int[], $8::text::timestamptz[], $9::text[], $10::text::boolean[],
            $11::text[], $12::text[], $13::text::bigint[])
     AS u (conversation_id, seq, rev, body, format, edited_at, edits, removed_at, removed_by, emptied, mentions,
           attachments, attached_bytes)
WHERE m.conversation_id = u.conversation_id AND m.seq = u.seq
"""

_APPLY_EARLIER = """
INSERT INTO nestrel.message_edits (conversation_id, seq, n, body, format, created_at, edited_at, editor_id)
SELECT * FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::int[], $4::text[], $5::text[],
                     $6::text::timestamptz[], $7::text::timestamptz[], $8::text[])
"""

# A message keeps its newest earlier bodies, so many and so large; what has gone was an earlier body of all the same.
_APPLY_TRIM = f"""
DELETE FROM nestrel.message_edits e USING (
    SELECT g.conversation_id, g.seq, (SELECT max(n) FROM (
        SELECT n, row_number() OVER (ORDER BY n DESC) AS place, sum(octet_length(body)) OVER (ORDER BY n DESC) AS size
        FROM nestrel.message_edits WHERE conversation_id = g.conversation_id AND seq = g.seq) k
        WHERE place > {limits.EARLIER_KEPT} OR size > {limits.EARLIER_BYTES}) AS n
    FROM unnest($1::text::uuid[], $2::text::bigint[]) AS g (conversation_id, seq)) cut
WHERE e.conversation_id = cut.conversation_id AND e.seq = cut.seq AND e.n <= cut.n
"""
_TRIM_FROM = limits.EARLIER_BYTES // (4 * limits.BODY_CHARS)
"""With fewer edits nothing can be over a limit."""

_APPLY_EMPTY = """
WITH gone AS (SELECT * FROM unnest($1::text::uuid[], $2::text::bigint[]) AS g (conversation_id, seq)),
earlier AS (DELETE FROM nestrel.message_edits e USING gone g WHERE (e.conversation_id, e.seq) = (g.conversation_id,
g.seq)),
counts AS (DELETE FROM nestrel.reaction_counts c USING gone g WHERE (c.conversation_id, c.seq) = (g.conversation_id,
g.seq))
DELETE FROM nestrel.reactions r USING gone g WHERE (r.conversation_id, r.seq) = (g.conversation_id, g.seq)
"""

# Reactions and their counts in one statement: one way to the database and back for both.
_REACT = """
WITH wanted AS (
    SELECT * FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::text[], $4::text::text[],
                         $5::text::boolean[]) AS w (conversation_id, seq, symbol, user_id, present)
), gone AS (
    DELETE FROM nestrel.reactions r USING wanted w
    WHERE NOT w.present AND r.conversation_id = w.conversation_id AND r.seq = w.seq AND r.symbol = w.symbol
      AND r.user_id = w.user_id
), set AS (
    INSERT INTO nestrel.reactions (conversation_id, seq, symbol, user_id, created_at)
    SELECT conversation_id, seq, symbol, user_id, clock_timestamp() FROM wanted WHERE present ON CONFLICT DO NOTHING
)
INSERT INTO nestrel.reaction_counts (conversation_id, seq, symbol, count, since, rev)
SELECT * FROM unnest($6::text::uuid[], $7::text::bigint[], $8::text::text[], $9::text::bigint[],
                     $10::text::bigint[], $11::text::bigint[])
ON CONFLICT (conversation_id, seq, symbol) DO UPDATE
SET count = excluded.count, since = excluded.since, rev = excluded.rev, moved_xid = pg_current_xact_id()
"""

_APPLY_READ = f"""
UPDATE nestrel.members m SET read_seq = u.read_seq, read_at = u.read_at, rev = u.rev, moved_xid = pg_current_xact_id()
FROM unnest($1::text::uuid[], $2::text::text[], $3::text::bigint[], $4::text::timestamptz[], $5::text::bigint[])
     AS u (conversation_id, user_id, read_seq, read_at, rev)
WHERE m.conversation_id = u.conversation_id AND m.user_id = u.user_id
RETURNING m.conversation_id, {rows.columns("m", MEMBER_COLUMNS)}
"""

_MOVED = f"""moved AS (
    UPDATE nestrel.conversations c
    SET head = u.head, rev = u.rev, last_at = u.last_at, floor = u.floor, message_count = u.messages,
        kept_bytes = u.size, moved_xid = pg_current_xact_id(),
        {epochs.stamp("c")}
    FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::timestamptz[],
                $5::text::bigint[], $6::text::bigint[], $7::text::bigint[])
         AS u (id, head, rev, last_at, floor, messages, size)
    WHERE c.id = u.id
), expired AS (
    INSERT INTO nestrel.expired_backlog (conversation_id, next_seq)
    SELECT * FROM unnest($8::text::uuid[], $9::text::bigint[]) ON CONFLICT DO NOTHING
)"""
_APPLY_TELL = "SELECT pg_notify($10, payload) FROM unnest($11::text[]) payload"
_APPLY_MOVE = f"WITH {_MOVED} {_APPLY_TELL}"

# For some posts one statement for their rows and for what moves costs less than COPY and another one.
_POST_AND_MOVE = f"""
WITH {_MOVED}, posted AS (
    INSERT INTO nestrel.messages (conversation_id, seq, rev, author_n, created_at, author_id, body, format, attributes,
                                  reply_to, key_hash, fingerprint)
    SELECT * FROM unnest($12::text::uuid[], $13::text::bigint[], $14::text::bigint[], $15::text::bigint[],
                         $16::text::timestamptz[], $17::text::text[], $18::text[], $19::text[], $20::text[],
                         $21::text::bigint[], $22::text::bytea[], $23::text::bytea[])
) {_APPLY_TELL}
"""


async def apply(database: Database, connection: Connection, decided: Plan) -> dict[UUID, list[Wire]]:
    """Write a plan; returns the member rows whose receipts moved, for each conversation."""
    moved: dict[Locked, None] = {}
    if _few_posts_alone(decided):
        moved = dict.fromkeys(one.place for one in decided.accepted)
        await execute(
            connection, _POST_AND_MOVE, *_moving(database, connection, list(moved)), *_posts(decided.accepted)
        )
        await _record(connection, decided)
        return {}
    if decided.accepted:
        await _post(connection, decided.accepted)
        moved |= dict.fromkeys(one.place for one in decided.accepted)
    if decided.changed:
        await _change(connection, decided.changed)
        moved |= dict.fromkeys(decided.changed.values())
    members: dict[UUID, list[Wire]] = {}
    if decided.receipts:
        members = await _read(connection, decided.receipts)
        moved |= dict.fromkeys(decided.receipts.values())
    if moved:
        await move(database, connection, list(moved))
    await _record(connection, decided)
    return members


async def _record(connection: Connection, decided: Plan) -> None:
    if posted := posted_for(decided.accepted):
        await audit.count(connection, posted)
    if removed := _removed(decided.changed):
        await audit.record_many(connection, removed)


def posted_for(accepted: Sequence[Accepted]) -> list[Done]:
    """What the audit has to say of posts: those that a backend made for somebody."""
    return [
        Done(post.actor, Act.POSTED_FOR, one.place.id, post.author_id, one.seq, post.request_id)
        for one in accepted
        if (post := one.post).actor is not None
    ]


def _removed(changed: Mapping[MessageState, Locked]) -> list[Done]:
    """The same of messages that somebody else than their author removed."""
    return [
        Done(state.removed_by, Act.MESSAGE_REMOVED, place.id, state.author_id, state.seq, state.removed_for)
        for state, place in changed.items()
        if state.removed_for is not None and state.removed_by is not None
    ]


def _few_posts_alone(decided: Plan) -> bool:
    """Whether a batch is of some posts and of nothing else, with which no floor moves."""
    return (
        0 < len(decided.accepted) <= limits.AT_ONCE
        and not decided.changed
        and not decided.receipts
        and not any(_bears_more(one.post) for one in decided.accepted)
        and not any(
            place.floor > place.stored_floor or place.rule.excess(place.messages, place.size)
            for place in {one.place for one in decided.accepted}
        )
    )


def _bears_more(post: Post) -> bool:
    """Whether there is more to a post than what the quick statements write."""
    return post.brought is not None or post.removed_at is not None or bool(post.mentions or post.attachments)


def _posts(accepted: Sequence[Accepted]) -> tuple[Any, ...]:
    """The rows of posts as parameters, a column each."""
    posts = [one.post for one in accepted]
    return (
        array([one.place.id for one in accepted]),
        array([one.seq for one in accepted]),
        array([one.rev for one in accepted]),
        array([one.author_n for one in accepted]),
        array([one.created_at for one in accepted]),
        texts([post.author_id for post in posts]),
        [post.body for post in posts],
        [post.format for post in posts],
        [post.attributes for post in posts],
        array([one.reply_to for one in accepted]),
        hashes([post.key_hash for post in posts]),
        hashes([post.fingerprint for post in posts]),
    )


async def _post(connection: Connection, accepted: Sequence[Accepted]) -> None:
    """By COPY, which costs both sides about half of an INSERT."""
    records: list[tuple[Any, ...]] = [
        (place.id, seq, rev, author_n, at, post.author_id, post.body, post.format, post.attributes, reply_to,
         post.key_hash, post.fingerprint, post.removed_at, post.removed_by)
        for place, post, seq, rev, at, author_n, reply_to, _ in accepted
    ]  # fmt: skip
    columns: tuple[str, ...] = _COLUMNS
    if any(one.post.mentions or one.attachments.ids for one in accepted):
        columns += _NAMING
        records = [
            (*record, list(one.post.mentions) or None, one.attachments.packed, one.attachments.size or None)
            for record, one in zip(records, accepted, strict=True)
        ]
        await naming.name(connection, accepted)
        await attaching.attach(connection, accepted)
    if not any(one.post.brought for one in accepted):
        await copy_in(connection, "messages", columns, records)
        return
    edited = [
        (None, 0) if one.post.brought is None else (one.post.brought.edited_at, len(one.post.brought.earlier))
        for one in accepted
    ]
    full = [record + more for record, more in zip(records, edited, strict=True)]
    await copy_in(connection, "messages", columns + _EDITED, full)
    await _bring(connection, [one for one in accepted if one.post.brought is not None])


async def _bring(connection: Connection, accepted: Sequence[Accepted]) -> None:
    """What hung on imported messages where they were written."""
    earlier, reactions, counts = list[tuple[object, ...]](), list[tuple[object, ...]](), list[tuple[object, ...]]()
    for place, post, seq, rev, *_ in accepted:
        assert post.brought is not None
        for n, one in _newest(post.brought.earlier):
            earlier.append((place.id, seq, n, one.body, one.format, one.created_at, one.edited_at, one.editor_id))
        reactions += [(place.id, seq, *mark) for mark in post.brought.reacted]
        counts += [(place.id, seq, symbol, len(by), rev, rev) for symbol, by in post.brought.marks().items()]
    await copy_in(connection, "message_edits", _EARLIER_COLUMNS, earlier)
    await copy_in(connection, "reactions", _REACTION_COLUMNS, reactions)
    await copy_in(connection, "reaction_counts", _COUNT_COLUMNS, counts)


def _newest(earlier: Sequence[Earlier]) -> list[tuple[int, Earlier]]:
    """The earlier bodies that are kept, each with its place among all of them from 1 on."""
    kept, size = list[tuple[int, Earlier]](), 0
    for n in range(len(earlier), max(0, len(earlier) - limits.EARLIER_KEPT), -1):
        size += len(earlier[n - 1].body.encode())
        if size > limits.EARLIER_BYTES:
            break
        kept.append((n, earlier[n - 1]))
    return kept[::-1]


async def _change(connection: Connection, changed: dict[MessageState, Locked]) -> None:
    states = [state for state in changed if state.row_rev is not None]
    if states:
        await _change_rows(connection, states, [changed[state].id for state in states])
        await naming.rename(connection, changed)
        await attaching.change(connection, changed)
    await _react(connection, changed)


async def _change_rows(connection: Connection, states: Sequence[MessageState], ids: Sequence[UUID]) -> None:
    await execute(
        connection,
        _APPLY_CHANGE,
        array(ids),
        array([state.seq for state in states]),
        array([state.row_rev for state in states]),
        [state.body for state in states],
        [state.format for state in states],
        array([state.edited_at for state in states]),
        array([state.edits for state in states]),
        array([state.removed_at for state in states]),
        [state.removed_by for state in states],
        array([state.emptied for state in states]),
        [texts(state.mentions) if state.mentions else None for state in states],
        [state.attachments for state in states],
        array([state.borne.size or None for state in states]),
    )
    earlier = [(id_, state.seq, body) for id_, state in zip(ids, states, strict=True) for body in state.earlier]
    if earlier:
        await execute(
            connection,
            _APPLY_EARLIER,
            array([one[0] for one in earlier]),
            array([one[1] for one in earlier]),
            array([one[2].n for one in earlier]),
            [one[2].body for one in earlier],
            [one[2].format for one in earlier],
            array([one[2].created_at for one in earlier]),
            array([one[2].edited_at for one in earlier]),
            [one[2].editor_id for one in earlier],
        )
    long = [(id_, state.seq) for id_, state in zip(ids, states, strict=True) if state.edits > _TRIM_FROM]
    if long:
        await execute(connection, _APPLY_TRIM, array([one[0] for one in long]), array([one[1] for one in long]))
    emptied = [(id_, state.seq) for id_, state in zip(ids, states, strict=True) if state.emptied]
    if emptied:
        await execute(connection, _APPLY_EMPTY, array([one[0] for one in emptied]), array([one[1] for one in emptied]))


async def _react(connection: Connection, changed: dict[MessageState, Locked]) -> None:
    marks = [
        (place.id, state.seq, symbol, user_id, present)
        for state, place in changed.items()
        for (symbol, user_id), present in state.set_reactions.items()
    ]
    if not marks:
        return
    counts = [
        (place.id, state.seq, symbol, state.reactions[symbol].count, state.reactions[symbol].since, rev)
        for state, place in changed.items()
        for symbol, rev in state.marked.items()
    ]
    await execute(
        connection,
        _REACT,
        array([mark[0] for mark in marks]),
        array([mark[1] for mark in marks]),
        texts([mark[2] for mark in marks]),
        texts([mark[3] for mark in marks]),
        array([mark[4] for mark in marks]),
        array([count[0] for count in counts]),
        array([count[1] for count in counts]),
        texts([count[2] for count in counts]),
        array([count[3] for count in counts]),
        array([count[4] for count in counts]),
        array([count[5] for count in counts]),
    )


async def _read(connection: Connection, receipts: dict[MemberState, Locked]) -> dict[UUID, list[Wire]]:
    found = await fetch(
        connection,
        _APPLY_READ,
        array([place.id for place in receipts.values()]),
        texts([member.user_id for member in receipts]),
        array([member.read_seq for member in receipts]),
        array([member.read_at for member in receipts]),
        array([member.rev for member in receipts]),
    )
    members: dict[UUID, list[Wire]] = {}
    for row in found:
        members.setdefault(row[0], []).append(rows.member(row[1:]))
    return members


async def move(
    database: Database,
    connection: Connection,
    places: Sequence[Locked],
    *,
    to_self: bool = False,
    measured: Mapping[UUID, Measured] | None = None,
) -> None:
    """Move conversations to where they now stand, their floors too, and tell of it. All else of the transaction has
    been written: what is over a limit now goes with it. `measured` is what of that was counted before."""
    await expiry.expire(connection, places, measured)
    await execute(connection, _APPLY_MOVE, *_moving(database, connection, places, to_self=to_self))


def _moving(
    database: Database, connection: Connection, places: Sequence[Locked], *, to_self: bool = False
) -> tuple[Any, ...]:
    """Where conversations now stand, and who is told, as the first parameters of a statement with `_MOVED`."""
    begun = [place for place in places if place.swept == place.stored_floor < place.floor]
    moved = [Moved(place.id, place.rev) for place in places]
    return (
        array([place.id for place in places]),
        array([place.head for place in places]),
        array([place.rev for place in places]),
        array([place.last_at for place in places]),
        array([place.floor for place in places]),
        array([place.messages for place in places]),
        array([place.size for place in places]),
        array([place.id for place in begun]),
        array([place.swept for place in begun]),
        database.channel,
        database.announcement(connection, moved, to_self=to_self),
    )
