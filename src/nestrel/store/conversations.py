"""Conversations: make, show, list, change, close."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import RowMapping, text
from sqlalchemy.exc import IntegrityError

from nestrel.core.problems import NameTaken
from nestrel.core.retention import Rule
from nestrel.core.roles import Kind, Role, Visibility
from nestrel.core.text import name_key
from nestrel.store import epochs, messages, receipts, retention, rows, rules, troubles
from nestrel.store.access import Caller
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection
from nestrel.store.rows import MESSAGE_COLUMNS, Wire

_SELECT = f"""
SELECT c.id, c.name, c.title, c.kind, c.visibility, c.attributes, c.created_by, c.created_at, c.head, f.floor, c.rev,
       c.message_count - aged.n AS message_count, c.member_count, c.last_at, m.role, partner.user_id AS partner,
       CASE WHEN m.role IS NOT NULL THEN unread.n END AS unread,
       {", ".join(f"l.{name} AS last_{name}" for name in MESSAGE_COLUMNS.split(", "))}
FROM nestrel.conversations c
CROSS JOIN LATERAL (SELECT {rules.floor("c")} AS floor) f
CROSS JOIN LATERAL (SELECT count(*) AS n FROM nestrel.messages x WHERE f.floor > c.floor AND x.conversation_id = c.id
    AND x.seq >= c.floor AND x.seq < f.floor AND x.removed_at IS NULL) aged
LEFT JOIN nestrel.members m ON m.conversation_id = c.id AND m.user_id = :user_id AND m.left_at IS NULL
{receipts.unread_joins("c", "f.floor", ":user_id", "m.read_seq")}
LEFT JOIN LATERAL (SELECT user_id FROM nestrel.members x WHERE c.kind = 'direct' AND x.conversation_id = c.id
    AND m.role IS NOT NULL AND x.user_id <> m.user_id LIMIT 1) partner ON true
LEFT JOIN nestrel.messages l ON l.conversation_id = c.id AND l.seq = c.head AND l.seq >= f.floor
"""

_ONE = text(f"{_SELECT} WHERE c.id = :id")
_SOME = text(f"{_SELECT} WHERE c.id = ANY(:ids)")

# The page is chosen on narrow rows first; the wide select above then runs for its few conversations.
_MINE_PAGE = text(
    """
    SELECT c.id, c.last_at FROM nestrel.members m JOIN nestrel.conversations c ON c.id = m.conversation_id
    WHERE m.user_id = :user_id AND m.left_at IS NULL AND c.closed_at IS NULL
      AND (CAST(:at AS timestamptz) IS NULL OR (c.last_at, c.id) < (:at, CAST(:id AS uuid)))
    ORDER BY c.last_at DESC, c.id DESC LIMIT :limit
    """
)
_OPEN_PAGE = text(
    """
    SELECT c.id, c.last_at FROM nestrel.conversations c
    WHERE c.visibility = 'open' AND c.closed_at IS NULL
      AND (CAST(:id AS uuid) IS NULL OR c.id < :id)
    ORDER BY c.id DESC LIMIT :limit
    """
)
_EVERY_PAGE = text(
    """
    SELECT c.id, c.last_at FROM nestrel.conversations c
    WHERE c.closed_at IS NULL
      AND (CAST(:id AS uuid) IS NULL OR c.id < :id)
    ORDER BY c.id DESC LIMIT :limit
    """
)

# A name is one conversation's: its index finds it, however many there are.
_NAMED = text(
    """
    SELECT c.id, c.last_at FROM nestrel.conversations c
    WHERE c.name_key = :name_key AND c.closed_at IS NULL AND (
        CASE :scope WHEN 'mine' THEN EXISTS (SELECT FROM nestrel.members m
            WHERE m.conversation_id = c.id AND m.user_id = :user_id AND m.left_at IS NULL)
        WHEN 'open' THEN c.visibility = 'open' ELSE true END)
    """
)

_INSERT = text(
    f"""
    INSERT INTO nestrel.conversations (id, kind, visibility, name, name_key, title, attributes, direct_pair, created_by,
                               created_at, rev, own_rev, member_count, last_at, {rules.INTO}, inherits, epochs, begins)
    VALUES (:id, :kind, :visibility, :name, :name_key, :title, :attributes, :direct_pair, :created_by,
            :at, :rev, 1, :member_count, :at, {rules.VALUES}, :inherits, ARRAY[{epochs.CURRENT}],
            ARRAY[CAST(0 AS bigint)])
    """
)
_INSERT_MEMBERS = text(
    """
    INSERT INTO nestrel.members (conversation_id, user_id, role, joined_at, rev)
    SELECT :id, u.user_id, u.role, :at, u.n + 1
    FROM unnest(CAST(:user_ids AS text[]), CAST(:roles AS text[])) WITH ORDINALITY AS u (user_id, role, n)
    """
)
_CLOSE = text(
    f"""
    UPDATE nestrel.conversations SET closed_at = clock_timestamp(), rev = rev + 1, own_rev = rev + 1,
           moved_xid = pg_current_xact_id(), {epochs.stamp("conversations")}
    WHERE id = :id RETURNING rev
    """
)


@dataclass(frozen=True, slots=True)
class NewConversation:
    """A conversation to make; `members` are (user id, role), the maker first. Without a `rule` it goes by the
    service's."""

    id: UUID
    kind: Kind
    visibility: Visibility
    name: str | None
    title: str
    attributes: str | None
    direct_pair: str | None
    created_by: str
    created_at: datetime
    members: Sequence[tuple[str, Role]]
    rule: Rule | None = None


async def make(database: Database, new: NewConversation) -> bool:
    """Write a new conversation with its members. False: the direct one of these two exists already.

    Raises:
        NameTaken: another conversation holds the name, also one that was made at this very moment.
    """
    try:
        async with database.write() as connection:
            version, rule = (None, new.rule) if new.rule is not None else await retention.service_rule(connection)
            await connection.execute(
                _INSERT,
                {
                    **rules.values(rule),
                    "inherits": version,
                    "id": new.id,
                    "kind": new.kind,
                    "visibility": new.visibility,
                    "name": new.name,
                    "name_key": name_key(new.name) if new.name is not None else None,
                    "title": new.title,
                    "attributes": new.attributes,
                    "direct_pair": new.direct_pair,
                    "created_by": new.created_by,
                    "at": new.created_at,
                    "rev": 1 + len(new.members),
                    "member_count": len(new.members),
                },
            )
            await connection.execute(
                _INSERT_MEMBERS,
                {
                    "id": new.id,
                    "at": new.created_at,
                    "user_ids": [user_id for user_id, _ in new.members],
                    "roles": [role.value for _, role in new.members],
                },
            )
            if rule.keep_for is not None:
                await retention.mark_due(connection, [new.id])
            joined = tuple(user_id for user_id, _ in new.members)
            await database.announce(connection, [Moved(new.id, 1 + len(new.members), joined)])
    except IntegrityError as error:
        if troubles.constraint(error) == "conversations_direct_pair":
            return False
        _raise_name_taken(error, new.name)
    return True


def _raise_name_taken(error: IntegrityError, name: str | None) -> None:
    if troubles.constraint(error) != "conversations_name":
        raise error
    raise NameTaken(f"another conversation is called {name!r}; choose another name") from None


async def find_direct(connection: Connection, pair: str) -> UUID | None:
    """The open direct conversation of a pair."""
    query = text("SELECT id FROM nestrel.conversations WHERE direct_pair = :pair AND closed_at IS NULL")
    found: UUID | None = (await connection.execute(query, {"pair": pair})).scalar()
    return found


async def _wires(connection: Connection, found: Sequence[RowMapping], *, viewer: bool = True) -> dict[UUID, Wire]:
    """Conversation objects by id; without a viewer the fields that depend on one are null."""
    last = [
        (row["id"], [row[f"last_{name}"] for name in MESSAGE_COLUMNS.split(", ")])
        for row in found
        if row["last_seq"] is not None
    ]
    newest = dict(zip((id_ for id_, _ in last), await messages.wires(connection, last), strict=True))
    return {row["id"]: _wire(row, newest.get(row["id"]), viewer=viewer) for row in found}


def _wire(row: RowMapping, last: Wire | None, *, viewer: bool) -> Wire:
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
        "members": row["member_count"],
    }


async def show(connection: Connection, conversation_id: UUID, user_id: str | None) -> Wire:
    """One conversation as a user sees it, or for no viewer in particular. Access is the caller's business."""
    result = await connection.execute(_ONE, {"id": conversation_id, "user_id": user_id or ""})
    return (await _wires(connection, [result.mappings().one()], viewer=user_id is not None))[conversation_id]


@dataclass(frozen=True, slots=True)
class ListPosition:
    """The last conversation of a page."""

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
        key = {"name_key": name_key(name), "scope": "every" if every else scope, "user_id": caller.user_id}
        found = (await connection.execute(_NAMED, key)).all()
    else:
        query = _MINE_PAGE if scope == "mine" else _EVERY_PAGE if every else _OPEN_PAGE
        values: dict[str, Any] = {"id": after.id if after else None, "limit": limit + 1}
        if scope == "mine":
            values |= {"user_id": caller.user_id, "at": after.at if after else None}
        found = (await connection.execute(query, values)).all()
    chosen = found[:limit]
    ids = [row.id for row in chosen]
    wide = await connection.execute(_SOME, {"ids": ids, "user_id": caller.user_id})
    by_id = await _wires(connection, wide.mappings().all())
    last = chosen[-1] if len(found) > limit else None
    return [by_id[id_] for id_ in ids if id_ in by_id], ListPosition(last.last_at, last.id) if last else None


async def change(database: Database, connection: Connection, conversation_id: UUID, fields: dict[str, Any]) -> None:
    """Set some of `title`, `name`, `visibility`, `attributes` (compact JSON) under the conversation's lock.

    Raises:
        NameTaken: another conversation holds the name.
    """
    values = dict(fields)
    if "name" in values:
        values["name_key"] = name_key(values["name"]) if values["name"] is not None else None
    sets = ", ".join(f"{column} = :{column}" for column in values)
    query = text(
        f"UPDATE nestrel.conversations SET {sets}, rev = rev + 1, own_rev = rev + 1, moved_xid = pg_current_xact_id(), "
        f"{epochs.stamp('conversations')} WHERE id = :id RETURNING rev"
    )
    try:
        rev = (await connection.execute(query, {**values, "id": conversation_id})).scalar_one()
    except IntegrityError as error:
        _raise_name_taken(error, fields.get("name"))
    else:
        await database.announce(connection, [Moved(conversation_id, rev)])


async def ids_of(connection: Connection, user_id: str, most: int) -> list[UUID]:
    """The open conversations that a user is a member of."""
    query = text(
        "SELECT c.id FROM nestrel.members m JOIN nestrel.conversations c ON c.id = m.conversation_id "
        "WHERE m.user_id = :user_id AND m.left_at IS NULL AND c.closed_at IS NULL ORDER BY c.id LIMIT :most"
    )
    return list((await connection.execute(query, {"user_id": user_id, "most": most})).scalars())


async def close(database: Database, connection: Connection, conversation_id: UUID) -> None:
    """Close for good: from the commit on nobody sees it. Its content is erased by `nestrel.store.closed`."""
    rev = (await connection.execute(_CLOSE, {"id": conversation_id})).scalar_one()
    await database.announce(connection, [Moved(conversation_id, rev)])
