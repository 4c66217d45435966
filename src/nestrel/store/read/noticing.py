"""What notices are due: messages that are new since a snapshot, and the people who are told of each under the present
rules."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import NamedTuple
from uuid import UUID

from nestrel.core import notices
from nestrel.core.cursors import AllPosition, ResyncPosition
from nestrel.core.notices import Notice
from nestrel.core.roles import Kind
from nestrel.store import fragments, rules
from nestrel.store.native import Connection, array, fetch, texts
from nestrel.store.read import journal, moving, receipts
from nestrel.store.read.journal import UNSEEN

_NOTICING_SEEN = """(pg_visible_in_snapshot({0}, i.snapshot::pg_snapshot)
      OR {0} >= pg_snapshot_xmax(pg_current_snapshot()))"""
_BEGAN = f"SELECT min(at) FROM nestrel.journal WHERE {UNSEEN.format('xid', '$1')}"

# What is too young is found once: looked for twice, with a clock that goes on, one would be left out of both.
# Where one has blocked the other, what falls due is decided too: nobody is told of it, and nobody is later.
# New is what stands above the newest message that the snapshot saw as it is now; one that has changed since stands
# above it too, so that it counts as new only if it was not long there before. So does what is imported with its time.
_LOOK = f"""
SELECT i.n, c.kind, c.member_count, bounds.low,
       least(c.head, young.low - 1) AS high,
       (SELECT extract(epoch FROM clock_timestamp() - created_at)::float8 FROM nestrel.messages
        WHERE conversation_id = c.id AND seq = greatest(bounds.low, young.low) LIMIT 1) AS age,
       CASE WHEN c.blocked THEN '{{}}' WHEN c.kind = 'group' AND NOT EXISTS (
           SELECT FROM nestrel.notice_preferences WHERE conversation_id = c.id AND notify = 'all')
       THEN (SELECT coalesce(array_agg(DISTINCT seq), '{{}}') FROM nestrel.mentions
           WHERE conversation_id = c.id AND seq BETWEEN bounds.low AND young.low - 1) END AS few
FROM unnest($1::text::uuid[], $2::text::text[], $3::text::timestamptz[], $4::text::bigint[])
     WITH ORDINALITY AS i (id, snapshot, began, base, n)
CROSS JOIN LATERAL (SELECT id, kind, member_count, head, blocked, {rules.floor("x")} AS floor
    FROM nestrel.conversations x WHERE id = i.id AND closed_at IS NULL LIMIT 1) c
LEFT JOIN LATERAL (SELECT seq FROM nestrel.messages
    WHERE i.base IS NULL AND conversation_id = c.id AND {_NOTICING_SEEN.format("moved_xid")}
    ORDER BY seq DESC LIMIT 1) s ON true
CROSS JOIN LATERAL (SELECT greatest(c.floor, coalesce(i.base, greatest(coalesce(s.seq, 0),
    nestrel.seq_at_v1(c.id, i.began) - 1)) + 1) AS low) bounds
CROSS JOIN LATERAL (SELECT nestrel.seq_at_v1(c.id, clock_timestamp() - $5::interval) AS low) young
ORDER BY i.n
"""
_NAMED_LATER = f"""
SELECT i.n, x.seq, m.user_id
FROM unnest($1::text::uuid[], $2::text::text[], $3::text::bigint[]) WITH ORDINALITY AS i (id, snapshot, low, n)
LEFT JOIN LATERAL (SELECT rev FROM nestrel.messages
    WHERE conversation_id = i.id AND changed AND {_NOTICING_SEEN.format("moved_xid")}
    ORDER BY rev DESC LIMIT 1) s ON true
CROSS JOIN LATERAL (SELECT seq FROM nestrel.messages WHERE conversation_id = i.id AND changed
    AND rev > coalesce(s.rev, 0) AND seq < i.low AND removed_at IS NULL ORDER BY rev) x
CROSS JOIN LATERAL (SELECT user_id FROM nestrel.mentions WHERE conversation_id = i.id AND seq = x.seq
    AND moved_xid IS NOT NULL AND NOT {_NOTICING_SEEN.format("moved_xid")}) m
ORDER BY i.n, x.seq, m.user_id
"""

_PREFERS = "coalesce(p.notify, CASE WHEN c.kind = 'group' THEN 'mentions' ELSE 'all' END)"
# What decides is read in one place, whoever is asked about: a member still, not the author, not there yet by their
# receipt, not blocking, not suspended, and wanting it.
_WANTS = f"""m.left_at IS NULL AND m.user_id <> x.author_id AND coalesce(m.read_seq, 0) < x.seq
      AND ({_PREFERS} = 'all' OR ({_PREFERS} = 'mentions' AND m.user_id = ANY(x.mentions)))
      AND (p.notify_after IS NULL OR p.notify_after <= x.created_at)
      AND NOT EXISTS (SELECT FROM nestrel.blocks WHERE user_id = m.user_id AND blocked_id = x.author_id)
      AND NOT EXISTS (SELECT FROM nestrel.barred WHERE user_id = m.user_id AND {fragments.SUSPENDED})
      AND ($5 OR EXISTS (SELECT FROM nestrel.push_subscriptions WHERE user_id = m.user_id))"""
_PREFERENCE = """LEFT JOIN LATERAL (SELECT notify, notify_after FROM nestrel.notice_preferences
    WHERE conversation_id = c.id AND user_id = m.user_id LIMIT 1) p ON true"""
_NOTICING_EVERYONE = f"""
SELECT m.user_id, m.read_seq FROM nestrel.members m {_PREFERENCE}
WHERE m.conversation_id = c.id AND m.user_id > i.after AND {_WANTS} ORDER BY m.user_id LIMIT $4"""
# In a group nobody is told of everything but who has said so.
_NOTICING_SOME = f"""
SELECT m.user_id, m.read_seq FROM (
    SELECT unnest(x.mentions) AS user_id UNION
    SELECT user_id FROM nestrel.notice_preferences WHERE conversation_id = c.id AND notify = 'all') named
CROSS JOIN LATERAL (SELECT user_id, read_seq, left_at FROM nestrel.members
    WHERE conversation_id = c.id AND user_id = named.user_id LIMIT 1) m {_PREFERENCE}
WHERE m.user_id > i.after AND {_WANTS} ORDER BY m.user_id LIMIT $4"""
_NOTICING_ONE = f"""
SELECT m.user_id, m.read_seq FROM nestrel.members m {_PREFERENCE}
WHERE m.conversation_id = c.id AND m.user_id = i.after AND {_WANTS} LIMIT $4"""
_WHO = f"""
SELECT c.id, x.seq, x.created_at, coalesce(nullif(c.title, ''), c.name, '') AS title, c.kind,
       coalesce(a.display_name, x.author_id) AS author, x.body, w.user_id, w.read_seq
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::text[])
     WITH ORDINALITY AS i (id, seq, after, n)
CROSS JOIN LATERAL (SELECT id, kind, title, name, {rules.floor("x")} AS floor FROM nestrel.conversations x
    WHERE id = i.id AND closed_at IS NULL AND NOT blocked LIMIT 1) c
CROSS JOIN LATERAL (SELECT seq, author_id, left(body, {notices.BODY_CHARS + 1}) AS body, mentions, created_at
    FROM nestrel.messages WHERE conversation_id = c.id AND seq = i.seq AND seq >= c.floor AND removed_at IS NULL
    LIMIT 1) x
LEFT JOIN LATERAL (SELECT display_name FROM nestrel.profiles WHERE user_id = x.author_id LIMIT 1) a ON true
CROSS JOIN LATERAL ({{who}}) w
ORDER BY i.n, w.user_id
"""
_OF_EVERYONE, _OF_SOME, _OF_ONE = (_WHO.format(who=who) for who in (_NOTICING_EVERYONE, _NOTICING_SOME, _NOTICING_ONE))


class Look(NamedTuple):
    """A conversation that may have something new since a snapshot, that was taken at about `began`; all up to `base`
    has been told of, where that is known."""

    id: UUID
    snapshot: str
    began: datetime
    base: int | None


class NewMessages(NamedTuple):
    """What is new in a conversation: the messages `low` to `high`, as far as they are old enough; and the seconds
    since the first that is not was made. `few`: of those alone anybody can want to be told, as in a group where nobody
    wants everything, or where one has blocked the other; `named` are those whom edits have named since."""

    kind: Kind
    members: int
    low: int
    high: int
    age: float | None
    few: list[int] | None
    named: list[tuple[int, str]]

    @property
    def seqs(self) -> Sequence[int]:
        """The messages of which somebody may be to be told."""
        return sorted(self.few) if self.few is not None else range(self.low, self.high + 1)


class RecipientPosition(NamedTuple):
    """A message, and from whom on among those who are to be told; or the one who is, if they are `alone`."""

    conversation_id: UUID
    seq: int
    after: str = ""


async def moved(
    connection: Connection, since: AllPosition, after: UUID, only: UUID | None
) -> tuple[list[UUID], UUID | None, AllPosition]:
    """Conversations behind `after` that have moved since a snapshot of this history; the last that was looked at, if
    there may be more; and the present snapshot."""
    tail = await journal.tail(connection, since, joined=False)
    ids, last = await moving.which(connection, ResyncPosition(since, tail.now, after), only, tail)
    return ids, last, tail.now


async def began(connection: Connection, since: AllPosition) -> datetime | None:
    """When the first came that a snapshot has not seen, as far as the journal reaches back; None if nothing has."""
    moment: datetime | None = (await fetch(connection, _BEGAN, since.snapshot))[0][0]
    return moment


async def look(connection: Connection, looks: Sequence[Look], delay: timedelta) -> dict[UUID, NewMessages]:
    """What is new in some conversations, and was made a `delay` ago; nothing of those that are closed. Where one has
    blocked the other, nobody wants to be told of any of it."""
    ids, snapshots = array([one.id for one in looks]), texts([one.snapshot for one in looks])
    rows = await fetch(
        connection, _LOOK, ids, snapshots, array([one.began for one in looks]), array([one.base for one in looks]),
        delay,
    )  # fmt: skip
    found = {
        looks[n - 1].id: NewMessages(Kind(kind), members, low, high, age, few, [])
        for n, kind, members, low, high, age, few in rows
    }
    asked = [one for one in looks if one.id in found]
    lows = array([found[one.id].low for one in asked])
    ids, snapshots = array([one.id for one in asked]), texts([one.snapshot for one in asked])
    for n, seq, user_id in await fetch(connection, _NAMED_LATER, ids, snapshots, lows):
        found[asked[n - 1].id].named.append((seq, user_id))
    return found


async def everyone(
    connection: Connection, asked: Sequence[RecipientPosition], most: int, *, subscribed: bool
) -> list[Notice]:
    """Who is told of messages of a direct conversation or a bulletin: each of them up to `most` people behind `after`,
    by user id. `subscribed`: only who has a device."""
    return await _who(connection, _OF_EVERYONE, asked, most, subscribed)


async def some(
    connection: Connection, asked: Sequence[RecipientPosition], most: int, *, subscribed: bool
) -> list[Notice]:
    """The same of a group."""
    return await _who(connection, _OF_SOME, asked, most, subscribed)


async def alone(connection: Connection, asked: Sequence[RecipientPosition]) -> list[Notice]:
    """Of each the one who is named, if they are still to be told."""
    return await _who(connection, _OF_ONE, asked, 1, False)


async def _who(
    connection: Connection, sql: str, asked: Sequence[RecipientPosition], most: int, subscribed: bool
) -> list[Notice]:  # fmt: skip
    if not asked:
        return []
    rows = await fetch(
        connection, sql, array([one.conversation_id for one in asked]), array([one.seq for one in asked]),
        texts([one.after for one in asked]), most, not subscribed,
    )  # fmt: skip
    unread = await receipts.unread(connection, [(row[0], row[7], row[8] or 0) for row in rows])
    return [
        Notice(user_id, id_, seq, at, author if kind == Kind.DIRECT else title, author, body, n)
        for (id_, seq, at, title, kind, author, body, user_id, _), n in zip(rows, unread, strict=True)
    ]
