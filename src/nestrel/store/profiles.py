"""Profiles: made from the token at first sight, changed by their owner, looked up once per page."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from sqlalchemy import TextClause, text

from nestrel.store import epochs, rows
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire

_READ = f"SELECT {rows.PROFILE_COLUMNS} FROM nestrel.profiles WHERE user_id = ANY($1::text[])"

_MEMBERSHIPS = 1_000
"""Conversations that one transaction of a profile's change moves; it holds their locks. Up to that many a change is
one transaction: everyone has the new profile, or nobody."""

_FIRST_SIGHT = text(
    "INSERT INTO nestrel.profiles VALUES (:user_id, :display_name, :picture, 1) ON CONFLICT DO NOTHING RETURNING rev"
)
_CHANGE = text(
    """
    UPDATE nestrel.profiles SET display_name = :display_name, picture = :picture, rev = rev + 1
    WHERE user_id = :user_id AND (display_name, picture) IS DISTINCT FROM (:display_name, CAST(:picture AS text))
    RETURNING rev
    """
)
_NEXT_MEMBERSHIPS = text(
    """
    SELECT conversation_id FROM nestrel.members WHERE user_id = :user_id AND conversation_id > :after
    ORDER BY conversation_id LIMIT :most
    """
)
# The member row carries the news: it takes the conversation's next rev, so that whoever was away learns of the new
# profile in the same way as whoever is there.
_MOVE = f"""
WITH locked AS (
    SELECT id FROM nestrel.conversations WHERE id = ANY($1::uuid[]) AND closed_at IS NULL ORDER BY id FOR NO KEY UPDATE
), moved AS (
    UPDATE nestrel.conversations SET rev = rev + 1, moved_xid = pg_current_xact_id(),
        {epochs.stamp("conversations")}
    WHERE id IN (SELECT id FROM locked) RETURNING id, rev
), marked AS (
    UPDATE nestrel.members m SET rev = moved.rev, moved_xid = pg_current_xact_id()
    FROM moved WHERE m.conversation_id = moved.id AND m.user_id = $2
)
SELECT id, rev FROM moved
"""

_UNTOLD = """
SELECT user_id, after FROM nestrel.profile_news WHERE $1::text IS NULL OR user_id = $1
ORDER BY user_id LIMIT 1 FOR UPDATE SKIP LOCKED
"""
_GO_ON_AFTER = """
INSERT INTO nestrel.profile_news (user_id, after) VALUES ($1, $2)
ON CONFLICT (user_id) DO UPDATE SET after = excluded.after
"""
_TOLD = "DELETE FROM nestrel.profile_news WHERE user_id = $1"


async def read(connection: Connection, user_ids: Iterable[str]) -> dict[str, Wire]:
    """The profiles of a page, each once; someone never seen is shown by user id."""
    wanted = sorted(set(user_ids))
    if not wanted:
        return {}
    found = await fetch(connection, _READ, wanted)
    known = {row[0]: rows.profile(*row) for row in found}
    return {user_id: known.get(user_id) or rows.profile(user_id, None, None, None) for user_id in wanted}


async def first_sight(database: Database, user_id: str, display_name: str, picture: str | None) -> None:
    """Make the profile if there is none; who was a member before is then shown by name to the others."""
    await _write(database, _FIRST_SIGHT, user_id, display_name, picture)


async def change(database: Database, user_id: str, display_name: str, picture: str | None) -> None:
    """Change the profile and tell everyone who shares a conversation; the same profile again changes nothing."""
    await _write(database, _CHANGE, user_id, display_name, picture)


async def _write(
    database: Database, statement: TextClause, user_id: str, display_name: str, picture: str | None
) -> None:
    values = {"user_id": user_id, "display_name": display_name, "picture": picture}
    async with database.write() as connection:
        if (await connection.execute(statement, values)).first() is None:
            return
        more = await _tell(database, connection, user_id, UUID(int=0))
    while more:
        more = await go_on(database, user_id)


async def go_on(database: Database, user_id: str | None = None) -> bool:
    """Tell some more conversations of a changed profile, of `user_id` or of anyone whose change was cut short. Where
    it goes on is kept with each part, so that a process that is killed leaves it to the next one. False: nothing is
    left to tell, or others are at it."""
    async with database.write() as connection:
        found = await fetch(connection, _UNTOLD, user_id)
        return bool(found) and await _tell(database, connection, *found[0])


async def _tell(database: Database, connection: Connection, user_id: str, after: UUID) -> bool:
    """Move the conversations of some memberships; whether there may be more."""
    values = {"user_id": user_id, "after": after, "most": _MEMBERSHIPS}
    ids = list((await connection.execute(_NEXT_MEMBERSHIPS, values)).scalars())
    if ids:
        moved = await fetch(connection, _MOVE, ids, user_id)
        await database.announce(connection, [Moved(row[0], row[1]) for row in moved])
    if len(ids) == _MEMBERSHIPS:
        await fetch(connection, _GO_ON_AFTER, user_id, ids[-1])
        return True
    if after.int:
        await fetch(connection, _TOLD, user_id)
    return False
