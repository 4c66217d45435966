"""What the write path reads before it decides: the conversations under their locks, and what is known of each
command."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID

import asyncpg

from nestrel.core.attachments import NONE_BORNE
from nestrel.core.commands import Change, Command, Post, React, Read
from nestrel.core.locked import Locked, Marks, MemberState, MessageState
from nestrel.core.planning import Facts
from nestrel.core.posting import PostFacts
from nestrel.core.rights import Action
from nestrel.core.roles import Kind, Role, Visibility
from nestrel.store import access, epochs, rows, rules
from nestrel.store.native import Connection, array, execute, fetch, hashes, texts
from nestrel.store.read import messages
from nestrel.store.rows import MESSAGE_COLUMNS
from nestrel.store.write import attaching, naming
from nestrel.store.write import imported as imports
from nestrel.store.write.memory import Author, Memory


def _locking(wait: str) -> str:
    """Conversations are locked in the order of their ids, so that transactions wait for each other and never in a
    ring. The time is looked at outside, when the lock is held."""
    return f"""
    SELECT {epochs.CURRENT} AS epoch, id, kind, visibility, head, {rules.floor("c")} AS kept, rev, last_at,
           closed_at IS NOT NULL AS closed, floor, message_count, kept_bytes, swept, guard,
           blocked, post_interval, crowd, {rules.RULE_COLUMNS}
    FROM nestrel.conversations c WHERE id = ANY($1::text::uuid[]) ORDER BY id FOR NO KEY UPDATE {wait}"""


_FACTS_LOCK = f"SELECT l.*, clock_timestamp() FROM ({_locking('')}) l"
# Those that somebody holds are told from those that never were in the same statement: whoever asks for one that they
# may not see takes as many as for one that is not there.
_LOCK_FREE = f"""
SELECT l.*, clock_timestamp(), there.id FROM (
    SELECT id FROM nestrel.conversations WHERE id = ANY($1::text::uuid[])) there
LEFT JOIN ({_locking("SKIP LOCKED")}) l ON l.id = there.id
"""
_FACTS_SOON = "SET LOCAL statement_timeout = '60ms'"
_AS_EVER = "SET LOCAL statement_timeout TO DEFAULT"

# Statements of their own, after the locks are held: under READ COMMITTED they then see the repeat, the edit or the
# like that another transaction has just committed. Each lookup is a lateral one so that it can only be an index scan.
_ROLE = f"""LEFT JOIN LATERAL (SELECT role, read_seq FROM nestrel.members
    WHERE conversation_id = i.conversation_id AND user_id = i.user_id AND left_at IS NULL LIMIT 1) m ON true
{access.out("i.conversation_id", "i.user_id")}"""

_KEY = """LEFT JOIN LATERAL (SELECT seq, fingerprint FROM nestrel.messages
    WHERE conversation_id = i.conversation_id AND key_hash = i.key_hash LIMIT 1) k ON true
LEFT JOIN LATERAL (SELECT seq FROM nestrel.expired_keys
    WHERE i.expired AND conversation_id = i.conversation_id AND key_hash = i.key_hash LIMIT 1) x ON true"""

_FACTS_KEYS = f"""
SELECT coalesce(k.seq, x.seq), k.fingerprint
FROM unnest($1::text::uuid[], $2::text::bytea[], $3::text::boolean[])
     WITH ORDINALITY AS i (conversation_id, key_hash, expired, n)
{_KEY}
ORDER BY i.n
"""

_POSTS = f"""
SELECT CASE WHEN i.n = 1 THEN clock_timestamp() END, {access.ROLE}, coalesce(k.seq, x.seq), k.fingerprint,
       coalesce(a.author_n, 0), a.created_at, p.display_name, p.picture, p.rev
FROM unnest($1::text::uuid[], $2::text::text[], $3::text::bytea[], $4::text::boolean[], $5::text::boolean[])
     WITH ORDINALITY AS i (conversation_id, user_id, key_hash, shown, expired, n)
{_ROLE}
{_KEY}
LEFT JOIN LATERAL (SELECT author_n, created_at FROM nestrel.messages
    WHERE conversation_id = i.conversation_id AND author_id = i.user_id ORDER BY seq DESC LIMIT 1) a ON true
LEFT JOIN LATERAL (SELECT display_name, picture, rev FROM nestrel.profiles
    WHERE i.shown AND user_id = i.user_id LIMIT 1) p ON true
ORDER BY i.n
"""

_CHANGES = f"""
SELECT CASE WHEN i.n = 1 THEN clock_timestamp() END, {access.ROLE}, r.user_id IS NOT NULL,
       {rows.columns("t", MESSAGE_COLUMNS)}
FROM unnest($1::text::uuid[], $2::text::text[], $3::text::bigint[], $4::text::text[])
     WITH ORDINALITY AS i (conversation_id, user_id, seq, symbol, n)
{_ROLE}
LEFT JOIN LATERAL (SELECT {MESSAGE_COLUMNS} FROM nestrel.messages
    WHERE conversation_id = i.conversation_id AND seq = i.seq LIMIT 1) t ON true
LEFT JOIN LATERAL (SELECT user_id FROM nestrel.reactions WHERE conversation_id = i.conversation_id AND seq = i.seq
    AND symbol = i.symbol AND user_id = i.user_id LIMIT 1) r ON true
ORDER BY i.n
"""

_READS = f"""
SELECT CASE WHEN i.n = 1 THEN clock_timestamp() END, {access.ROLE}, m.read_seq
FROM unnest($1::text::uuid[], $2::text::text[]) WITH ORDINALITY AS i (conversation_id, user_id, n)
{_ROLE}
ORDER BY i.n
"""

# Lookups, where calling the enumeration would cost more for each row.
_ROLES: dict[str | None, Role | None] = {None: None, access.KEPT_OUT: None, **{role.value: role for role in Role}}
_KINDS = {kind.value: kind for kind in Kind}
_VISIBILITIES = {visibility.value: visibility for visibility in Visibility}


@dataclass(slots=True)
class BatchFacts:
    """The facts of a batch, the database's time, and the profiles of authors whose posts are shown live. `authors` is
    what was known of a conversation's, by its number, and `learned` what the store has said of others. Of posts that
    are `trusted` nobody has asked whether the key is new."""

    facts: Facts = field(default_factory=Facts)
    now: datetime | None = None
    profiles: dict[str, Sequence[Any]] = field(default_factory=dict)
    authors: dict[int, Mapping[str, Author]] = field(default_factory=dict)
    learned: dict[int, dict[str, Author]] = field(default_factory=dict)
    trusted: set[Post] = field(default_factory=set)


async def lock(connection: Connection, ids: Sequence[UUID]) -> dict[int, Locked]:
    """Lock conversations until the transaction ends, by the number of their ids; those that never were are left out.
    Raises `NewEpoch` when the database has become another."""
    return _places(connection, await fetch(connection, _FACTS_LOCK, array(ids)))


async def lock_free(connection: Connection, ids: Sequence[UUID]) -> tuple[dict[int, Locked], set[int]]:
    """The same without waiting for anyone; also the numbers of those that somebody holds."""
    found = await fetch(connection, _LOCK_FREE, array(ids))
    locked = _places(connection, [row[:-1] for row in found if row[1] is not None])
    return locked, {row[-1].int for row in found if row[1] is None}


async def lock_soon(connection: Connection, ids: Sequence[UUID]) -> dict[int, Locked] | None:
    """Lock conversations that others hold for a moment, as soon as they let go; None where they do not, and the
    transaction can do nothing more."""
    await execute(connection, _FACTS_SOON)
    try:
        locked = await lock(connection, ids)
        await execute(connection, _AS_EVER)  # within the same time: a machine may stand still just here
    except asyncpg.QueryCanceledError:
        return None
    return locked


def _places(connection: Connection, found: Sequence[Any]) -> dict[int, Locked]:
    if not found:
        return {}
    epoch = connection.history.check(found[0][0])
    return {row[1].int: _locked(row[1:], epoch) for row in found}


def _locked(row: Sequence[Any], epoch: int) -> Locked:
    place = Locked(row[0], _KINDS[row[1]], _VISIBILITIES[row[2]], row[3], row[4], row[5], row[6], row[7], epoch)
    place.stored_floor, place.messages, place.size, place.swept, place.guard = row[8:13]
    place.blocked, place.post_interval, place.crowd = row[13:16]
    place.rule = rules.rule(*row[16:-1])
    place.at = row[-1]
    return place


async def read(
    connection: Connection,
    commands: Sequence[Command],
    locked: dict[int, Locked],
    shown: set[int],
    memory: Memory | None = None,
) -> BatchFacts:
    """One statement for each kind of command in the batch. `shown` are the conversations, by the number of their ids,
    whose authors' profiles are wanted for live delivery. What is in the `memory` is not asked for."""
    known = BatchFacts()
    known.now = max((place.at for place in locked.values() if place.at is not None), default=None)
    posts = [command for command in commands if isinstance(command, Post)]
    if posts:
        await _know_posts(connection, known, [post for post in posts if not post.imported], locked, shown, memory)
        imported = [post for post in posts if post.imported]
        if imported:
            known.now, found = await imports.read(connection, imported, locked)
            ordinary, brought = known.facts.posts, iter(found)
            known.facts.posts = iter([next(brought if post.imported else ordinary) for post in posts])
    known.facts.strangers = await naming.strangers(connection, commands)
    known.facts.attachments = await attaching.find(connection, commands, locked)
    if known.facts.strangers or known.facts.attachments:
        known.facts.posts = iter(
            [
                fact._replace(
                    strangers=known.facts.strangers.get(post, ()),
                    attachments=known.facts.attachments.get(post, NONE_BORNE),
                )
                for post, fact in zip(posts, known.facts.posts, strict=True)
            ]
        )
    if len(posts) == len(commands):
        return known
    changes = [command for command in commands if isinstance(command, Change)]
    if changes:
        await _read_changes(connection, known, changes, locked)
    reads = [command for command in commands if isinstance(command, Read)]
    if reads:
        await _read_receipts(connection, known, reads, locked)
    return known


async def _know_posts(
    connection: Connection,
    known: BatchFacts,
    posts: Sequence[Post],
    locked: dict[int, Locked],
    shown: set[int],
    memory: Memory | None,
) -> None:
    """The facts of posts, from the memory and, for those of whom it says nothing, from the store."""
    remembered = [_recall(known, post, locked, shown, memory) for post in posts] if memory is not None else []
    unknown = [post for post, fact in zip(posts, remembered, strict=True) if fact is None] if remembered else posts
    found = iter(await _read_posts(connection, known, unknown, locked, shown))
    await _look_up_keys(connection, known, posts, remembered, locked)
    known.facts.posts = iter([fact or next(found) for fact in remembered]) if remembered else found


def recall(known: BatchFacts, posts: Sequence[Post], place: Locked, shown: set[int], memory: Memory) -> bool:
    """Take the facts of posts into one conversation from the memory alone; whether it has all of them, and the index
    decides on their keys."""
    facts = []
    for post in posts:
        fact = _recall(known, post, {place.id.int: place}, shown, memory)
        if fact is None or not (post.key_hash is None or post in known.trusted):
            return False
        facts.append(fact)
    known.facts.posts = iter(facts)
    return True


def _recall(
    known: BatchFacts, post: Post, locked: dict[int, Locked], shown: set[int], memory: Memory
) -> PostFacts | None:
    number = post.conversation_id.int
    authors = known.authors.get(number)
    if authors is None:
        place = locked.get(number)
        authors = known.authors[number] = memory.authors(place) if place is not None else {}
    author = authors.get(post.author_id)
    if author is None or locked[number].post_interval is not None:  # when the last was posted is not remembered
        return None
    if number in shown:
        if author.profile is None:
            return None
        known.profiles[post.author_id] = author.profile
    if post.key_hash is not None and _index_decides(locked[number]) and not memory.doubts(post.author_id):
        known.trusted.add(post)
    return PostFacts(author.role, None, None, author.ordinal)


async def _look_up_keys(
    connection: Connection,
    known: BatchFacts,
    posts: Sequence[Post],
    facts: list[PostFacts | None],
    locked: dict[int, Locked],
) -> None:
    """Of remembered authors, the keys that the index does not decide on."""
    asked = [
        n
        for n, fact in enumerate(facts)
        if fact is not None and posts[n].key_hash is not None and posts[n] not in known.trusted
    ]
    if not asked:
        return
    found = await fetch(
        connection,
        _FACTS_KEYS,
        array([posts[n].conversation_id for n in asked]),
        hashes([posts[n].key_hash for n in asked]),
        array([locked[posts[n].conversation_id.int].stored_floor > 1 for n in asked]),
    )
    for n, (seq, fingerprint) in zip(asked, found, strict=True):
        fact = facts[n]
        if seq is not None and fact is not None:
            facts[n] = fact._replace(repeat_seq=seq, repeat_fingerprint=fingerprint)


def _index_decides(place: Locked) -> bool:
    """Where nothing has expired every key is in the index of the messages, which takes none twice."""
    return place.stored_floor == 1


async def _read_posts(
    connection: Connection, known: BatchFacts, posts: Sequence[Post], locked: dict[int, Locked], shown: set[int]
) -> list[PostFacts]:
    if not posts:
        return []
    authors: set[str] = set()
    wanted = []
    for post in posts:
        wanted.append(post.author_id not in authors and post.conversation_id.int in shown)
        if wanted[-1]:
            authors.add(post.author_id)
    found = await fetch(
        connection,
        _POSTS,
        array([post.conversation_id for post in posts]),
        texts([post.author_id for post in posts]),
        hashes([post.key_hash for post in posts]),
        array(wanted),
        array(
            [(place := locked.get(post.conversation_id.int)) is not None and place.stored_floor > 1 for post in posts]
        ),
    )
    known.now = found[0][0]
    if authors:
        known.profiles |= {
            post.author_id: row[6:] for post, row, first in zip(posts, found, wanted, strict=True) if first
        }
    facts = [PostFacts(_ROLES[row[1]], row[2], row[3], row[4], row[5]) for row in found]
    _keep_out(locked, [(post.conversation_id, post.author_id) for post in posts], found)
    for post, fact in zip(posts, facts, strict=True):
        if fact.role is not None:
            profile = known.profiles.get(post.author_id)
            known_as = (profile[0], profile[1], profile[2]) if profile is not None and profile[2] is not None else None
            known.learned.setdefault(post.conversation_id.int, {})[post.author_id] = Author(
                fact.role, fact.author_count, known_as
            )
    return facts


def _keep_out(locked: dict[int, Locked], asked: Sequence[tuple[UUID, str]], found: Sequence[Any]) -> None:
    """Note whom the owners keep out; their role stands second in each row."""
    for (conversation_id, user_id), row in zip(asked, found, strict=True):
        if row[1] == access.KEPT_OUT and (place := locked.get(conversation_id.int)) is not None:
            place.kept_out.add(user_id)


async def _read_changes(
    connection: Connection, known: BatchFacts, changes: Sequence[Change], locked: dict[int, Locked]
) -> None:
    found = await fetch(
        connection,
        _CHANGES,
        array([change.conversation_id for change in changes]),
        texts([change.user_id for change in changes]),
        array([change.seq for change in changes]),
        texts([change.symbol if isinstance(change, React) else None for change in changes]),
    )
    _keep_out(locked, [(change.conversation_id, change.user_id) for change in changes], found)
    states: dict[tuple[int, int], MessageState] = {}
    places: dict[MessageState, UUID] = {}
    answers: list[tuple[Role | None, MessageState | None]] = []
    for change, (_, role, reacted, *message) in zip(changes, found, strict=True):
        place = locked.get(change.conversation_id.int)
        seen = place is not None and place.standing(change.user_id, _ROLES[role], service=change.service).may(
            Action.SEE
        )
        if message[0] is None or not seen:  # of what somebody may not see, no more is asked than of what is not there
            answers.append((_ROLES[role], None))
            continue
        key = (change.conversation_id.int, change.seq)
        state = states.get(key)
        if state is None:
            state = states[key] = MessageState(*message)
            places[state] = change.conversation_id
        if isinstance(change, React):
            state.reacted[change.symbol, change.user_id] = reacted
        answers.append((_ROLES[role], state))
    await read_marks(connection, places)
    known.now = known.now or found[0][0]
    known.facts.changes = iter(answers)


async def read_marks(connection: Connection, states: dict[MessageState, UUID]) -> None:
    """Give messages of conversations their reactions as they stand, and the newest `rev`."""
    every = list(states)
    for state in every:
        state.reactions.clear()
    for n, symbol, count, by, since, rev in await messages.reactions(
        connection, [(states[state], state.seq) for state in every]
    ):
        every[n].reactions[symbol] = Marks(count, by, since)
        every[n].rev = max(every[n].rev, rev)


async def _read_receipts(
    connection: Connection, known: BatchFacts, reads: Sequence[Read], locked: dict[int, Locked]
) -> None:
    asked = {(read.conversation_id.int, read.user_id): read for read in reads}
    ids, users = [read.conversation_id for read in asked.values()], [read.user_id for read in asked.values()]
    found = await fetch(connection, _READS, array(ids), texts(users))
    _keep_out(locked, list(zip(ids, users, strict=True)), found)
    known.now = known.now or found[0][0]
    states = {
        key: (_ROLES[role], None if role is None else MemberState(key[1], read_seq))
        for key, (_, role, read_seq) in zip(asked, found, strict=True)
    }
    known.facts.reads = iter([states[read.conversation_id.int, read.user_id] for read in reads])
