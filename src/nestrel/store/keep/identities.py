"""Erasing an identity: no row has a person's id any more, and what they wrote shows another one that says nothing.

It goes conversation by conversation, in steps that each end in a commit. Nobody signs in as the person from the start
on, so that nothing comes again where it has gone."""

from __future__ import annotations

import secrets
import string
from typing import Any
from uuid import UUID

import orjson

from nestrel.core.roles import direct_pair
from nestrel.store import epochs
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.keep import archive
from nestrel.store.native import Connection, execute, fetch

_LETTERS = 16
_STEP = 2_000
"""Rows of one kind that one step changes, under the conversation's lock."""
_LOOKED_AT = 200
_MESSAGES = 200_000
"""Conversations, and messages in them, that one question looks through for an id that may stand in any of them."""

_IDENTITIES_NEXT = """
SELECT id, greatest(head - swept + 1, 0) FROM nestrel.conversations WHERE id >= $1 ORDER BY id LIMIT $2
"""
# An archived run of messages may name anybody: whether it does, only its lines say.
_TRACES = """
SELECT c.id FROM unnest($2::uuid[]) AS c (id) WHERE
    EXISTS (SELECT FROM nestrel.members WHERE conversation_id = c.id AND user_id = $1)
 OR EXISTS (SELECT FROM nestrel.archive_segments WHERE conversation_id = c.id)
 OR EXISTS (SELECT FROM nestrel.conversations WHERE id = c.id
        AND (created_by = $1 OR position(':' || $1 || ':' IN direct_pair || ':') > 0))
 OR EXISTS (SELECT FROM nestrel.messages WHERE conversation_id = c.id
        AND (author_id = $1 OR removed_by = $1 OR $1 = ANY(mentions)))
 OR EXISTS (SELECT FROM nestrel.message_edits WHERE conversation_id = c.id AND editor_id = $1)
 OR EXISTS (SELECT FROM nestrel.reactions WHERE conversation_id = c.id AND user_id = $1)
 OR EXISTS (SELECT FROM nestrel.mentions WHERE conversation_id = c.id AND user_id = $1)
 OR EXISTS (SELECT FROM nestrel.attachments WHERE conversation_id = c.id AND uploader_id = $1)
 OR EXISTS (SELECT FROM nestrel.kept_out WHERE conversation_id = c.id AND (user_id = $1 OR kept_out_by = $1))
ORDER BY c.id LIMIT 1
"""

_SEGMENT = """
SELECT segment FROM nestrel.archive_segments WHERE conversation_id = $1 AND segment > $2 ORDER BY segment LIMIT 1
"""
# A sweep that has read messages is waited for: what it has written is in the archive then. It comes before the lock of
# the conversation, as there.
_IDENTITIES_LOCK_BACKLOG = "SELECT FROM nestrel.expired_backlog WHERE conversation_id = $1 FOR UPDATE"
_IDENTITIES_LOCK = (
    "SELECT closed_at IS NOT NULL, direct_pair FROM nestrel.conversations WHERE id = $1 FOR NO KEY UPDATE"
)
_IDENTITIES_KEPT = """
SELECT EXISTS (SELECT FROM nestrel.messages WHERE conversation_id = $1 AND author_id = $2 AND removed_at IS NULL)
    OR EXISTS (SELECT FROM nestrel.archive_authors WHERE conversation_id = $1 AND author_id = $2),
       (SELECT renaming = $1 FROM nestrel.erasures WHERE id = $3)
"""
_RENAME = (
    """
    UPDATE nestrel.messages SET author_id = CASE WHEN author_id = $2 THEN $3 ELSE author_id END,
        key_hash = CASE WHEN author_id = $2 THEN NULL ELSE key_hash END,
        removed_by = CASE WHEN removed_by = $2 THEN $3 ELSE removed_by END,
        mentions = CASE WHEN $2 = ANY(mentions) THEN nullif(array_remove(mentions, $2), '{}') ELSE mentions END
    WHERE conversation_id = $1 AND seq IN (SELECT seq FROM nestrel.messages WHERE conversation_id = $1
        AND (author_id = $2 OR removed_by = $2 OR $2 = ANY(mentions)) LIMIT $4) RETURNING 1
    """,
    """
    UPDATE nestrel.message_edits SET editor_id = $3 WHERE conversation_id = $1 AND (seq, n) IN (
        SELECT seq, n FROM nestrel.message_edits WHERE conversation_id = $1 AND editor_id = $2 LIMIT $4) RETURNING 1
    """,
    """
    UPDATE nestrel.attachments SET uploader_id = $3 WHERE conversation_id = $1 AND id IN (
        SELECT id FROM nestrel.attachments WHERE conversation_id = $1 AND uploader_id = $2 LIMIT $4) RETURNING 1
    """,
    """
    UPDATE nestrel.kept_out SET kept_out_by = $3 WHERE conversation_id = $1 AND user_id IN (
        SELECT user_id FROM nestrel.kept_out WHERE conversation_id = $1 AND kept_out_by = $2 LIMIT $4) RETURNING 1
    """,
)
_TAKE = (
    """
    WITH gone AS (
        DELETE FROM nestrel.reactions WHERE conversation_id = $1 AND user_id = $2 AND (seq, symbol) IN (
            SELECT seq, symbol FROM nestrel.reactions WHERE conversation_id = $1 AND user_id = $2 LIMIT $3)
        RETURNING seq, symbol
    ), counted AS (
        UPDATE nestrel.reaction_counts c SET count = c.count - 1 FROM gone
        WHERE c.conversation_id = $1 AND c.seq = gone.seq AND c.symbol = gone.symbol
    )
    SELECT 1 FROM gone
    """,
    """
    DELETE FROM nestrel.mentions WHERE conversation_id = $1 AND user_id = $2 AND seq IN (
        SELECT seq FROM nestrel.mentions WHERE conversation_id = $1 AND user_id = $2 LIMIT $3) RETURNING 1
    """,
)
_IDENTITIES_GO_ON = "UPDATE nestrel.erasures SET renaming = $2 WHERE id = $1"
_REST = (
    "DELETE FROM nestrel.kept_out WHERE conversation_id = $1 AND user_id = $2",
    "DELETE FROM nestrel.archive_authors WHERE conversation_id = $1 AND author_id = $2",  # of a closed one
)
_IDENTITIES_NAMED = """
UPDATE nestrel.conversations SET created_by = CASE WHEN created_by = $2 THEN $3 ELSE created_by END, direct_pair = $4
WHERE id = $1 AND (created_by = $2 OR direct_pair IS DISTINCT FROM $4) RETURNING 1
"""
_IDENTITIES_ENDED = "DELETE FROM nestrel.members WHERE conversation_id = $1 AND user_id = $2 RETURNING left_at IS NULL"
_IDENTITIES_MOVE = f"""
UPDATE nestrel.conversations SET rev = rev + 1, anew_rev = rev + 1, anew_xid = pg_current_xact_id(), own_rev = rev + 1,
       member_count = member_count - $2::int, moved_xid = pg_current_xact_id(), {epochs.stamp("conversations")}
WHERE id = $1 RETURNING rev
"""

# What is of no conversation, or is found by its person.
_ELSEWHERE = (
    "SELECT nestrel.rename_in_audit_v1($1)",
    "DELETE FROM nestrel.blocks WHERE user_id = $1 OR blocked_id = $1",
    "DELETE FROM nestrel.barred WHERE user_id = $1",
    "DELETE FROM nestrel.connections WHERE user_id = $1",
    "DELETE FROM nestrel.held_names WHERE user_id = $1",
    "DELETE FROM nestrel.person_words WHERE user_id = $1",
    "DELETE FROM nestrel.profile_news WHERE user_id = $1",
    "DELETE FROM nestrel.profiles WHERE user_id = $1",
    "DELETE FROM nestrel.asked WHERE user_id = $1",
    "DELETE FROM nestrel.uploaded WHERE user_id = $1",
    "DELETE FROM nestrel.rates WHERE key = $1",
    "DELETE FROM nestrel.rate_counts WHERE key = $1",
    "UPDATE nestrel.joining SET after = left(after, -1) WHERE after = $1",
    "UPDATE nestrel.posts_waiting SET mentions = array_remove(mentions, $1) WHERE $1 = ANY(mentions)",
    "DELETE FROM nestrel.refused_posts WHERE position(to_json($1::text)::text IN problem::jsonb::text) > 0",
)
_SHOWN = (
    "UPDATE nestrel.barred SET suspended_by = $2 WHERE suspended_by = $1",
    "UPDATE nestrel.webhooks SET created_by = $2 WHERE created_by = $1",
    "UPDATE nestrel.erasures SET asked_by = $2 WHERE asked_by = $1",
    """
    UPDATE nestrel.reports SET author_id = CASE WHEN author_id = $1 THEN $2 ELSE author_id END,
        reported_by = CASE WHEN reported_by = $1 THEN $2 ELSE reported_by END,
        settled_by = CASE WHEN settled_by = $1 THEN $2 ELSE settled_by END,
        message = replace(message, to_json($1::text)::text, to_json($2::text)::text)
    WHERE author_id = $1 OR reported_by = $1 OR settled_by = $1 OR position(to_json($1::text)::text IN message) > 0
    """,
    "UPDATE nestrel.erasures SET user_id = $2 WHERE user_id = $1",
)
_ACTS = """
SELECT ticket, detail::text FROM nestrel.acts_waiting
WHERE position(to_json($1::text)::text IN detail::jsonb::text) > 0 ORDER BY ticket FOR UPDATE
"""
_CHANGE_ACT = "UPDATE nestrel.acts_waiting SET detail = $2::text::json WHERE ticket = $1"


def new_name() -> str:
    """What is shown in the place of an id: letters that were drawn, so that nothing leads back."""
    return "erased-" + "".join(secrets.choice(string.ascii_lowercase) for _ in range(_LETTERS))


async def look(connection: Connection, user_id: str, at: UUID) -> tuple[UUID | None, UUID | None]:
    """The next conversation from `at` on in which an id may stand; without one, where to go on: None at the end."""
    found = await fetch(connection, _IDENTITIES_NEXT, at, _LOOKED_AT)
    some, messages = list[UUID](), 0
    for id_, count in found:
        if some and messages + count > _MESSAGES:
            break
        some.append(id_)
        messages += count
    traces = await fetch(connection, _TRACES, user_id, some) if some else []
    if traces:
        return traces[0][0], None
    more = len(some) < len(found) or len(found) == _LOOKED_AT
    return None, behind(some[-1]) if more else None


def behind(id_: UUID) -> UUID:
    """The first id behind one."""
    return UUID(int=id_.int + 1)


async def rename_archived(database: Database, conversation_id: UUID, user_id: str, shown: str) -> bool:
    """Write those segments anew that name somebody, each in a transaction of its own; whether there were any."""
    number, named = 0, False
    while True:
        async with database.write() as connection:
            found = await fetch(connection, _SEGMENT, conversation_id, number)
            if not found:
                return named
            number = found[0][0]
            named |= await archive.rename(connection, conversation_id, number, user_id, shown)


async def rename(database: Database, erasure_id: UUID, conversation_id: UUID, user_id: str, shown: str) -> bool | None:
    """Take a step in one conversation; the last of them ends the membership and, if anything named the person, lets
    everyone begin anew here. From then on no sweep archives the id. Whether anything did; None: there is more to do, or
    something that they wrote is still kept, here or in the archive."""
    async with database.write() as connection:
        await execute(connection, _IDENTITIES_LOCK_BACKLOG, conversation_id)
        found = await fetch(connection, _IDENTITIES_LOCK, conversation_id)
        if not found:
            return False
        closed, pair = found[0]
        [(kept, begun)] = await fetch(connection, _IDENTITIES_KEPT, conversation_id, user_id, erasure_id)
        if kept and not closed:
            return None
        counts = [len(await fetch(connection, sql, conversation_id, user_id, shown, _STEP)) for sql in _RENAME]
        counts += [len(await fetch(connection, sql, conversation_id, user_id, _STEP)) for sql in _TAKE]
        if max(counts) == _STEP:
            await execute(connection, _IDENTITIES_GO_ON, erasure_id, conversation_id)
            return None
        for sql in _REST:
            await execute(connection, sql, conversation_id, user_id)
        pair = _renamed_pair(pair, user_id, shown)
        named = await fetch(connection, _IDENTITIES_NAMED, conversation_id, user_id, shown, pair)
        ended = await fetch(connection, _IDENTITIES_ENDED, conversation_id, user_id)
        changed = bool(begun or any(counts) or named or ended)
        if begun:
            await execute(connection, _IDENTITIES_GO_ON, erasure_id, None)
        if changed and not closed:
            [(rev,)] = await fetch(connection, _IDENTITIES_MOVE, conversation_id, int(bool(ended and ended[0][0])))
            await database.announce(connection, [Moved(conversation_id, rev)])
    return changed


def _renamed_pair(pair: str | None, user_id: str, shown: str) -> str | None:
    """What makes a direct conversation unique, with the other id."""
    if pair is None:
        return None
    size, _, rest = pair.partition(":")
    first, second = rest[: int(size)], rest[int(size) + 1 :]
    if user_id not in (first, second):
        return pair
    return direct_pair(shown, second if first == user_id else first)


async def forget_elsewhere(connection: Connection, user_id: str, shown: str) -> None:
    """Let an id go that is of no conversation; the last of an erasure, which is written down under the other id from
    here on."""
    for ticket, detail in await fetch(connection, _ACTS, user_id):
        await execute(connection, _CHANGE_ACT, ticket, orjson.dumps(_without(orjson.loads(detail), user_id)).decode())
    for sql in _ELSEWHERE:
        await execute(connection, sql, user_id)
    for sql in _SHOWN:
        await execute(connection, sql, user_id, shown)


def _without(detail: dict[str, Any], user_id: str) -> dict[str, Any]:
    """What an act says, with somebody neither a member nor an owner nor mentioned."""
    left: dict[str, Any] = {}
    for name, value in detail.items():
        if isinstance(value, list):
            left[name] = [one for one in value if one != user_id]
        else:
            left[name] = None if value == user_id else value
    return left
