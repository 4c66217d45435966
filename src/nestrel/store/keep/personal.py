"""Everything that a person wrote and everything stored about them, as of one moment, for them to download (GDPR,
articles 15 and 20)."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Any, NamedTuple
from uuid import UUID

import orjson

from nestrel.store import rows
from nestrel.store.keep import archive
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import MESSAGE_COLUMNS

_MANY = 500

# Each by one column that orders it, so that no more than a part is held at one time. What the database writes as JSON
# is written out as it is.
_TABLES: dict[str, str] = {
    "profile": "SELECT user_id AS k, to_jsonb(p) FROM nestrel.profiles p WHERE user_id = $1 AND user_id > $2",
    "memberships": """
        SELECT conversation_id::text AS k, jsonb_build_object('conversation_id', conversation_id, 'role', role,
            'joined_at', joined_at, 'left_at', left_at, 'read_seq', read_seq, 'read_at', read_at)
        FROM nestrel.members WHERE user_id = $1 AND conversation_id::text > $2""",
    "earlier_bodies": """
        SELECT e.conversation_id::text || lpad(e.seq::text, 20, '0') || lpad(e.n::text, 10, '0') AS k,
            to_jsonb(e) - 'moved_xid'
        FROM nestrel.members m JOIN nestrel.messages t ON t.conversation_id = m.conversation_id AND t.author_id = $1
        JOIN nestrel.message_edits e ON e.conversation_id = t.conversation_id AND e.seq = t.seq
        WHERE m.user_id = $1
          AND e.conversation_id::text || lpad(e.seq::text, 20, '0') || lpad(e.n::text, 10, '0') > $2""",
    "reactions": """
        SELECT r.conversation_id::text || lpad(r.seq::text, 20, '0') || r.symbol AS k, to_jsonb(r) - 'moved_xid'
        FROM nestrel.members m JOIN nestrel.reactions r ON r.conversation_id = m.conversation_id AND r.user_id = $1
        WHERE m.user_id = $1 AND r.conversation_id::text || lpad(r.seq::text, 20, '0') || r.symbol > $2""",
    "attachments": """
        SELECT a.id::text AS k, jsonb_build_object('attachment_id', id, 'conversation_id', conversation_id,
            'name', name, 'media_type', media_type, 'bytes', bytes, 'sha256', encode(sha256, 'hex'),
            'created_at', created_at, 'file', 'files/' || id::text)
        FROM nestrel.attachments a WHERE uploader_id = $1 AND id::text > $2""",
    "notices": """
        SELECT conversation_id::text AS k, to_jsonb(p) FROM nestrel.notice_preferences p
        WHERE user_id = $1 AND conversation_id::text > $2""",
    "devices": """
        SELECT id::text AS k, to_jsonb(s) - 'p256dh' - 'auth' - 'session' FROM nestrel.push_subscriptions s
        WHERE user_id = $1 AND id::text > $2""",
    "blocks": "SELECT blocked_id AS k, to_jsonb(b) FROM nestrel.blocks b WHERE user_id = $1 AND blocked_id > $2",
    "kept_out": """
        SELECT conversation_id::text AS k, to_jsonb(o) FROM nestrel.kept_out o
        WHERE user_id = $1 AND conversation_id::text > $2""",
    "suspension": "SELECT user_id AS k, to_jsonb(b) - 'changed_at' FROM nestrel.barred b "
                  "WHERE user_id = $1 AND user_id > $2",
    "invitations": """
        SELECT id::text AS k, to_jsonb(i) - 'token_hash' FROM nestrel.invitations i
        WHERE created_by = $1 AND id::text > $2""",
    "reports": """
        SELECT report_id::text AS k, to_jsonb(r) - 'message' FROM nestrel.reports r
        WHERE reported_by = $1 AND report_id::text > $2""",
    "waiting": "SELECT ticket::text AS k, to_jsonb(w) FROM nestrel.posts_waiting w "
               "WHERE author_id = $1 AND ticket::text > $2",
    "waiting_acts": "SELECT ticket::text AS k, to_jsonb(w) FROM nestrel.acts_waiting w "
                    "WHERE user_id = $1 AND ticket::text > $2",
    "refused": "SELECT ticket::text AS k, to_jsonb(r) FROM nestrel.refused_posts r "
               "WHERE author = $1 AND ticket::text > $2",
    "names": "SELECT kind || key AS k, to_jsonb(h) - 'key' FROM nestrel.held_names h "
             "WHERE user_id = $1 AND kind || key > $2",
    "audit": """
        SELECT a.audit_id::text AS k, to_jsonb(a) || jsonb_build_object('reason', r.reason) FROM nestrel.audit a
        LEFT JOIN nestrel.audit_reasons r ON r.audit_id = a.audit_id
        WHERE (a.user_id = $1 OR a.actor = $1) AND a.audit_id::text > $2""",
    "usage": """
        SELECT hour::text || conversation_id::text AS k, to_jsonb(u) FROM nestrel.usage_commands u
        WHERE user_id = $1 AND hour::text || conversation_id::text > $2""",
    "connections_by_hour": """
        SELECT hour::text AS k, to_jsonb(u) FROM nestrel.usage_people u WHERE user_id = $1 AND hour::text > $2""",
}  # fmt: skip
_PERSONAL_PLACES = """
SELECT conversation_id FROM (
    SELECT conversation_id FROM nestrel.members WHERE user_id = $1
    UNION SELECT conversation_id FROM nestrel.archive_authors WHERE author_id = $1) p
WHERE conversation_id > $2 AND EXISTS (
    SELECT FROM nestrel.conversations c WHERE c.id = p.conversation_id AND c.closed_at IS NULL)
ORDER BY conversation_id LIMIT 500
"""
_PERSONAL_MESSAGES = f"""
SELECT {MESSAGE_COLUMNS} FROM nestrel.messages WHERE conversation_id = $1 AND author_id = $2 AND seq > $3
ORDER BY seq LIMIT {_MANY}
"""
_PERSONAL_ARCHIVED = "SELECT 1 FROM nestrel.archive_authors WHERE conversation_id = $1 AND author_id = $2 LIMIT 1"
_FILES = """
SELECT id, object_id, bytes FROM nestrel.attachments WHERE uploader_id = $1 AND id > $2 ORDER BY id LIMIT 100
"""
_NOTHING = UUID(int=0)


class File(NamedTuple):
    """A file that somebody uploaded: where it is kept, and how large it is."""

    id: UUID
    object_id: UUID
    size: int


def names() -> list[str]:
    """What there is, beside the messages and the files."""
    return list(_TABLES)


async def table(connection: Connection, user_id: str, name: str) -> AsyncIterator[bytes]:
    """One of them as JSON Lines, in chunks of whole lines."""
    sql, after = f"SELECT k, o::text FROM ({_TABLES[name]}) t (k, o) ORDER BY k LIMIT {_MANY}", ""
    while found := await fetch(connection, sql, user_id, after):
        yield "".join([f"{row[1]}\n" for row in found]).encode()
        after = found[-1][0]


async def messages(connection: Connection, user_id: str) -> AsyncIterator[bytes]:
    """What somebody wrote in every conversation, archived or live, as JSON Lines."""
    after = _NOTHING
    while places := await fetch(connection, _PERSONAL_PLACES, user_id, after):
        for (conversation_id,) in places:
            async for chunk in _of_one(connection, user_id, conversation_id):
                yield chunk
        after = places[-1][0]


async def _of_one(connection: Connection, user_id: str, conversation_id: UUID) -> AsyncIterator[bytes]:
    if await fetch(connection, _PERSONAL_ARCHIVED, conversation_id, user_id):
        async for _, text in archive.every(connection, conversation_id):
            mine = [line for line in text.splitlines() if orjson.loads(line)["author_id"] == user_id]
            if mine:
                yield b"\n".join(mine) + b"\n"
    seq = 0
    while found := await fetch(connection, _PERSONAL_MESSAGES, conversation_id, user_id, seq):
        yield b"".join([rows.dump(_own(str(conversation_id), row)) + b"\n" for row in found])
        seq = found[-1][0]


def _own(conversation_id: str, row: Any) -> rows.Wire:
    """A message as its author wrote it; who reacted is the others' data."""
    return {key: value for key, value in rows.message(conversation_id, row).items() if key != "reactions"}


async def files(connection: Connection, user_id: str) -> AsyncIterator[File]:
    """The files that somebody uploaded."""
    after = _NOTHING
    while found := await fetch(connection, _FILES, user_id, after):
        for row in found:
            yield File(*row)
        after = found[-1][0]
