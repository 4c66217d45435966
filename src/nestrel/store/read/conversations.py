"""Conversations as a user sees them: one, and lists of them."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.notices import preference
from nestrel.core.text import name_key
from nestrel.core.words import LAST, words
from nestrel.store import fragments, rows, rules
from nestrel.store.native import Connection, fetch
from nestrel.store.read import messages, receipts
from nestrel.store.rows import MESSAGE_COLUMNS, Wire

_SELECT = f"""
SELECT c.id, c.name, c.title, c.kind, c.visibility, c.attributes, c.created_by, c.created_at, c.head, f.floor, c.rev,
       c.message_count - aged.n AS message_count, c.member_count, c.last_at, c.post_interval, c.is_default, m.role,
       coalesce(m.hidden_head >= c.head, false) AS hidden, p.notify, p.notify_after, partner.user_id AS partner,
       CASE WHEN m.role IS NOT NULL THEN unread.n END AS unread,
       CASE WHEN m.role IS NOT NULL THEN named.n END AS unread_mentions,
       {", ".join(f"l.{name} AS last_{name}" for name in MESSAGE_COLUMNS.split(", "))}
FROM nestrel.conversations c
CROSS JOIN LATERAL (SELECT {rules.floor("c")} AS floor) f
CROSS JOIN LATERAL (SELECT count(*) AS n FROM nestrel.messages x WHERE f.floor > c.floor AND x.conversation_id = c.id
    AND x.seq >= c.floor AND x.seq < f.floor AND x.removed_at IS NULL) aged
LEFT JOIN nestrel.members m ON m.conversation_id = c.id AND m.user_id = $1 AND m.left_at IS NULL
LEFT JOIN nestrel.notice_preferences p ON p.conversation_id = c.id AND p.user_id = $1 AND m.role IS NOT NULL
{receipts.unread_joins("c", "f.floor", "$1", "m.read_seq")}
{receipts.mentions_join("c", "$1")}
LEFT JOIN LATERAL (SELECT user_id FROM nestrel.members x WHERE c.kind = 'direct' AND x.conversation_id = c.id
    AND m.role IS NOT NULL AND x.user_id <> m.user_id LIMIT 1) partner ON true
LEFT JOIN nestrel.messages l ON l.conversation_id = c.id AND l.seq = c.head AND l.seq >= f.floor
"""

_CONVERSATION_ONE = f"{_SELECT} WHERE c.id = $2"
_CONVERSATION_SOME = f"{_SELECT} WHERE c.id = ANY($2::uuid[]) AND c.closed_at IS NULL"

# The page is chosen on narrow rows first; the wide select above then runs for its few conversations.
_MINE_PAGE = """
SELECT c.id, c.last_at FROM nestrel.members m JOIN nestrel.conversations c ON c.id = m.conversation_id
WHERE m.user_id = $1 AND m.left_at IS NULL AND c.closed_at IS NULL
  AND (m.hidden_head IS NULL OR m.hidden_head < c.head)
  AND ($2::timestamptz IS NULL OR (c.last_at, c.id) < ($2, $3::uuid))
ORDER BY c.last_at DESC, c.id DESC LIMIT $4
"""
_MINE_ALL = """
SELECT m.conversation_id, c.last_at, coalesce(m.hidden_head >= c.head, false)
FROM (SELECT conversation_id, hidden_head FROM nestrel.members WHERE user_id = $1 AND left_at IS NULL
      ORDER BY conversation_id LIMIT $2) m
CROSS JOIN LATERAL (SELECT last_at, head FROM nestrel.conversations WHERE id = m.conversation_id AND closed_at IS NULL
    LIMIT 1) c
"""
_MINE_OF = """
SELECT i.id, c.last_at, coalesce(m.hidden_head >= c.head, false) FROM unnest($2::uuid[]) AS i (id)
CROSS JOIN LATERAL (SELECT hidden_head FROM nestrel.members WHERE conversation_id = i.id AND user_id = $1
    AND left_at IS NULL LIMIT 1) m
CROSS JOIN LATERAL (SELECT last_at, head FROM nestrel.conversations WHERE id = i.id AND closed_at IS NULL LIMIT 1) c
"""
_OPEN_PAGE = f"""
SELECT c.id, c.last_at FROM nestrel.conversations c
WHERE c.visibility = 'open' AND c.closed_at IS NULL
  AND ($1::uuid IS NULL OR c.id < $1)
  AND NOT {fragments.kept_out("c.id", "$3")}
ORDER BY c.id DESC LIMIT $2
"""
_EVERY_PAGE = """
SELECT c.id, c.last_at FROM nestrel.conversations c
WHERE c.closed_at IS NULL
  AND ($1::uuid IS NULL OR c.id < $1)
ORDER BY c.id DESC LIMIT $2
"""

# Of all: those of a member, by what they are called, newest made first. The words that they must have come one by one.
_FOUND_PAGE = """
SELECT c.id, c.last_at FROM nestrel.conversations c
WHERE c.closed_at IS NULL AND ($1::uuid IS NULL OR c.id < $1)
  AND ($3::text IS NULL OR EXISTS (SELECT FROM nestrel.members m
       WHERE m.conversation_id = c.id AND m.user_id = $3 AND m.left_at IS NULL))
  AND NOT EXISTS (SELECT FROM unnest($4::text[], $5::text[]) AS also (low, high)
       WHERE NOT EXISTS (SELECT FROM nestrel.conversation_words w
           WHERE w.conversation_id = c.id AND w.word >= also.low AND w.word < also.high))
ORDER BY c.id DESC LIMIT $2
"""

_DIRECT = "SELECT id FROM nestrel.conversations WHERE direct_pair = $1 AND closed_at IS NULL"

# A name is one conversation's: its index finds it, however many there are.
_CONVERSATION_NAMED = f"""
SELECT c.id, c.last_at FROM nestrel.conversations c
WHERE c.name_key = $1 AND c.closed_at IS NULL AND (
    CASE $2::text WHEN 'mine' THEN EXISTS (SELECT FROM nestrel.members m
        WHERE m.conversation_id = c.id AND m.user_id = $3 AND m.left_at IS NULL)
    WHEN 'open' THEN c.visibility = 'open' AND NOT {fragments.kept_out("c.id", "$3")}
    ELSE true END)
"""


async def find_direct(connection: Connection, pair: str) -> UUID | None:
    """The open direct conversation of a pair."""
    found = await fetch(connection, _DIRECT, pair)
    return found[0][0] if found else None


async def _wires(connection: Connection, found: Sequence[Any], *, viewer: bool = True) -> dict[UUID, Wire]:
    """Conversation objects by id; without a viewer the fields that depend on one are null."""
    last = [
        (row["id"], [row[f"last_{name}"] for name in MESSAGE_COLUMNS.split(", ")])
        for row in found
        if row["last_seq"] is not None
    ]
    newest = dict(zip((id_ for id_, _ in last), await messages.wires(connection, last), strict=True))
    return {row["id"]: _wire(row, newest.get(row["id"]), viewer=viewer) for row in found}


def _wire(row: Any, last: Wire | None, *, viewer: bool) -> Wire:
    return {
        "id": str(row["id"]),
        "name": row["name"],
        "title": row["title"],
        "kind": row["kind"],
        "visibility": row["visibility"],
        "attributes": rows.raw_json(row["attributes"]),
        "created_by": row["created_by"],
        "created_at": rows.wire_time(row["created_at"]),
        "head": row["head"],
        "floor": row["floor"],
        "rev": row["rev"],
        "message_count": row["message_count"],
        "last_message": last,
        "my_role": row["role"] if viewer else None,
        "partner": row["partner"] if viewer else None,
        "unread": row["unread"] if viewer else None,
        "unread_mentions": row["unread_mentions"] if viewer else None,
        "my_hidden": row["hidden"] if viewer and row["role"] is not None else None,
        "my_notify": preference(row["kind"], row["notify"]) if viewer and row["role"] is not None else None,
        "my_notify_after": rows.wire_time(row["notify_after"]) if viewer else None,
        "post_interval": row["post_interval"],
        "default": row["is_default"],
        "me": None,
        "members": row["member_count"],
    }


async def show(connection: Connection, conversation_id: UUID, user_id: str | None) -> Wire:
    """One conversation as a user sees it, or for no viewer in particular. Access is the caller's business."""
    [found] = await fetch(connection, _CONVERSATION_ONE, user_id or "", conversation_id)
    return (await _wires(connection, [found], viewer=user_id is not None))[conversation_id]


async def show_some(connection: Connection, ids: Sequence[UUID]) -> dict[UUID, Wire]:
    """Some conversations, for no viewer in particular; without those that are closed."""
    return await _wires(connection, await fetch(connection, _CONVERSATION_SOME, "", ids), viewer=False) if ids else {}


class ListPosition(NamedTuple):
    """A conversation's place in a list, which the newest activity leads."""

    at: datetime
    id: UUID


async def page(
    connection: Connection,
    scope: str,
    caller: Caller,
    limit: int,
    after: ListPosition | None,
    name: str | None,
) -> tuple[list[Wire], ListPosition | None]:
    """One page of `mine` (newest activity first) or `open` (newest made first); for a trusted backend `open` is
    every conversation. Returns the position of the next page, None at the end."""
    every = scope != "mine" and caller.service
    if name is not None:
        found = await fetch(
            connection, _CONVERSATION_NAMED, name_key(name), "every" if every else scope, caller.user_id
        )
    elif scope == "mine":
        at, id_ = (after.at, after.id) if after else (None, None)
        found = await fetch(connection, _MINE_PAGE, caller.user_id, at, id_, limit + 1)
    else:
        behind = after.id if after else None
        asked = (_EVERY_PAGE, behind, limit + 1) if every else (_OPEN_PAGE, behind, limit + 1, caller.user_id)
        found = await fetch(connection, *asked)
    last = found[limit - 1] if len(found) > limit else None
    items = await shown(connection, caller, [row["id"] for row in found[:limit]], mine=scope == "mine")
    return items, ListPosition(last["last_at"], last["id"]) if last else None


async def every(
    connection: Connection, caller: Caller, limit: int, after: UUID | None, member: str | None, q: str
) -> tuple[list[Wire], UUID | None]:
    """One page of all conversations, newest made first: those of a member, and those whose name or title has words
    that begin with those of `q`. Also the id to continue after, None at the end."""
    prefixes = words(q)
    if q.strip() and not prefixes:
        return [], None
    ends = [prefix + LAST for prefix in prefixes]
    found = await fetch(connection, _FOUND_PAGE, after, limit + 1, member, prefixes, ends)
    items = await shown(connection, caller, [row["id"] for row in found[:limit]], mine=False)
    return items, found[limit - 1]["id"] if len(found) > limit else None


async def shown(connection: Connection, caller: Caller, ids: Sequence[UUID], *, mine: bool) -> list[Wire]:
    """Conversations in the order of their ids here; those that are closed by now are left out, and of `mine` those
    that are the caller's no more."""
    by_id = await _wires(connection, await fetch(connection, _CONVERSATION_SOME, caller.user_id, ids))
    found = [by_id[id_] for id_ in ids if id_ in by_id]
    return [item for item in found if item["my_role"] is not None] if mine else found


class Listed(NamedTuple):
    """A conversation of a member's, and whether they have hidden it."""

    at: ListPosition
    hidden: bool


async def mine(connection: Connection, user_id: str, most: int) -> list[Listed] | None:
    """All of a member's conversations, in no order; None if they are in more than `most`."""
    found = await fetch(connection, _MINE_ALL, user_id, most + 1)
    return [Listed(ListPosition(row[1], row[0]), row[2]) for row in found] if len(found) <= most else None


async def mine_of(connection: Connection, user_id: str, ids: Sequence[UUID]) -> list[Listed]:
    """Those of some conversations that are a member's, in no order."""
    found = await fetch(connection, _MINE_OF, user_id, ids)
    return [Listed(ListPosition(row[1], row[0]), row[2]) for row in found]
