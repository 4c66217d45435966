"""Receipts: what is unread, by arithmetic, and who has read a message."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from nestrel.core import limits
from nestrel.store import rows, rules
from nestrel.store.native import Connection, array, fetch, texts
from nestrel.store.rows import Wire


def unread_joins(conversation: str, floor: str, user: str, read_seq: str) -> str:
    """SQL that joins `unread (n)` to a row: what lies above the receipt, less one's own (whose ordinals are
    consecutive, so two index look-ups count them), less the removed ones of others (few, and with an index of their
    own). The arguments are SQL: an alias of `conversations`, its floor, and the reader's id and receipt."""
    c = conversation
    return f"""
CROSS JOIN LATERAL (SELECT least({c}.head, greatest(coalesce({read_seq}, 0), {floor} - 1)) AS seq) seen
LEFT JOIN LATERAL (SELECT author_n FROM nestrel.messages x WHERE x.conversation_id = {c}.id AND x.author_id = {user}
    AND x.seq > seen.seq ORDER BY x.seq DESC LIMIT 1) newest ON true
LEFT JOIN LATERAL (SELECT author_n FROM nestrel.messages x WHERE x.conversation_id = {c}.id AND x.author_id = {user}
    AND x.seq > seen.seq ORDER BY x.seq LIMIT 1) oldest ON true
CROSS JOIN LATERAL (SELECT count(*) AS n FROM nestrel.messages x WHERE x.conversation_id = {c}.id AND x.seq > seen.seq
    AND x.removed_at IS NOT NULL AND x.author_id <> {user}) removed
CROSS JOIN LATERAL (
    SELECT {c}.head - seen.seq - coalesce(newest.author_n - oldest.author_n + 1, 0) - removed.n AS n) unread
"""


def mentions_join(conversation: str, user: str) -> str:
    """SQL that joins `named (n)`, the unread messages of others that name a user, behind `unread_joins`; not those of
    whom the user blocks."""
    return f"""
CROSS JOIN LATERAL (SELECT count(*) AS n FROM (SELECT FROM nestrel.mentions x
    WHERE x.conversation_id = {conversation}.id AND x.user_id = {user} AND x.seq > seen.seq
      AND NOT EXISTS (SELECT FROM nestrel.blocks b WHERE b.user_id = {user} AND b.blocked_id = (
          SELECT author_id FROM nestrel.messages y WHERE y.conversation_id = {conversation}.id AND y.seq = x.seq))
    LIMIT {limits.MENTIONS_COUNTED}) counted) named
"""


_UNREAD = f"""
SELECT unread.n
FROM unnest($1::text::uuid[], $2::text::text[], $3::text::bigint[])
     WITH ORDINALITY AS i (conversation_id, user_id, read_seq, n)
CROSS JOIN LATERAL (SELECT id, head, {rules.floor("x")} AS floor FROM nestrel.conversations x
    WHERE id = i.conversation_id LIMIT 1) c
{unread_joins("c", "c.floor", "i.user_id", "i.read_seq")}
ORDER BY i.n
"""

# Most are read to the end, which their counters say.
_IN_ALL = f"""
SELECT least(count(*) FILTER (WHERE unread.n > 0), {limits.UNREAD_COUNTED}),
       least(coalesce(sum(unread.n), 0), {limits.UNREAD_COUNTED}),
       least(coalesce(sum(named.n), 0), {limits.UNREAD_COUNTED})
FROM (SELECT conversation_id, read_seq, hidden_head FROM nestrel.members
      WHERE user_id = $1 AND left_at IS NULL ORDER BY conversation_id) m
CROSS JOIN LATERAL (SELECT id, head, {rules.floor("x")} AS floor FROM nestrel.conversations x
    WHERE id = m.conversation_id AND closed_at IS NULL AND head > m.read_seq
      AND (m.hidden_head IS NULL OR m.hidden_head < head) LIMIT 1) c
{unread_joins("c", "c.floor", "$1", "m.read_seq")}
{mentions_join("c", "$1")}
"""

_READERS = """
SELECT user_id, read_seq, read_at FROM nestrel.members
WHERE conversation_id = $1 AND left_at IS NULL AND read_seq >= $2 AND user_id > $3
ORDER BY user_id LIMIT $4
"""


async def unread(connection: Connection, receipts: Sequence[tuple[UUID, str, int]]) -> list[int]:
    """How much is unread for each (conversation, user, receipt)."""
    found = await fetch(
        connection,
        _UNREAD,
        array([one[0] for one in receipts]),
        texts([one[1] for one in receipts]),
        array([one[2] for one in receipts]),
    )
    return [row[0] for row in found]


async def unread_in_all(connection: Connection, user_id: str) -> Wire:
    """How much somebody has not read, in how many conversations; hidden ones are left out, as in their list."""
    [(conversations, messages, mentions)] = await fetch(connection, _IN_ALL, user_id)
    return {"conversations": conversations, "messages": int(messages), "mentions": int(mentions)}


async def readers(
    connection: Connection, conversation_id: UUID, seq: int, limit: int, after: str
) -> tuple[list[Wire], str | None]:
    """Members whose receipt has reached a message, by user id, and the id to continue after; None at the end."""
    found = await fetch(connection, _READERS, conversation_id, seq, after, limit + 1)
    items: list[Wire] = [
        {"user_id": user_id, "read_seq": read_seq, "read_at": rows.wire_time(at)}
        for user_id, read_seq, at in found[:limit]
    ]
    return items, items[-1]["user_id"] if len(found) > limit else None
