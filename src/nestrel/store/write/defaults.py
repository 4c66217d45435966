"""Default conversations. A new person is a member from the start; people who were there before are joined in the
background. Somebody who has left stays away, because their row remains."""

from __future__ import annotations

from uuid import UUID

from nestrel.store import epochs, fragments
from nestrel.store.database import Database
from nestrel.store.events import Moved
from nestrel.store.native import Connection, execute, fetch

_DEFAULTS = "SELECT id FROM nestrel.conversations WHERE is_default AND closed_at IS NULL ORDER BY id"
_DEFAULT_LOCK = (
    "SELECT id FROM nestrel.conversations WHERE id = $1 AND is_default AND closed_at IS NULL FOR NO KEY UPDATE"
)
# Those of some people who never were members, each with a `rev` of their own.
_JOIN = f"""
WITH coming AS (
    SELECT i.user_id, row_number() OVER (ORDER BY i.user_id) AS n FROM unnest($2::text[]) AS i (user_id)
    WHERE NOT EXISTS (SELECT FROM nestrel.members m WHERE m.conversation_id = $1 AND m.user_id = i.user_id)
      AND NOT {fragments.kept_out("$1", "i.user_id")}
), moved AS (
    UPDATE nestrel.conversations SET rev = rev + (SELECT count(*) FROM coming),
        member_count = member_count + (SELECT count(*) FROM coming),
        crowd = crowd OR {fragments.crowded("member_count + (SELECT count(*) FROM coming)")},
        moved_xid = pg_current_xact_id(), {epochs.stamp("conversations")}
    WHERE id = $1 AND EXISTS (SELECT FROM coming) RETURNING rev
), joined AS (
    INSERT INTO nestrel.members (conversation_id, user_id, role, joined_at, rev)
    SELECT $1, c.user_id, 'reader', clock_timestamp(), moved.rev - (SELECT count(*) FROM coming) + c.n
    FROM moved, coming c RETURNING user_id
)
SELECT (SELECT rev FROM moved), array_agg(user_id) FROM joined
"""
_DEFAULT_BEGIN = (
    "INSERT INTO nestrel.joining (conversation_id) VALUES ($1) ON CONFLICT (conversation_id) DO UPDATE SET after = ''"
)
_DEFAULT_NEXT = (
    "SELECT conversation_id, after FROM nestrel.joining ORDER BY conversation_id LIMIT 1 FOR UPDATE SKIP LOCKED"
)
_DEFAULT_PEOPLE = "SELECT user_id FROM nestrel.profiles WHERE user_id > $1 ORDER BY user_id LIMIT $2"
_DEFAULT_GO_ON = "UPDATE nestrel.joining SET after = $2 WHERE conversation_id = $1"
_DEFAULT_DONE = "DELETE FROM nestrel.joining WHERE conversation_id = $1"

_STEP = 500


async def join(database: Database, connection: Connection, user_id: str) -> None:
    """Make somebody who is seen for the first time a member of all of them."""
    for (conversation_id,) in await fetch(connection, _DEFAULTS):
        if await fetch(connection, _DEFAULT_LOCK, conversation_id):
            await _join(database, connection, conversation_id, [user_id])


async def begin(connection: Connection, conversation_id: UUID) -> None:
    """Have everyone joined who is there, in the background."""
    await execute(connection, _DEFAULT_BEGIN, conversation_id)


async def step(database: Database) -> bool:
    """Join some of those who are there; False: there is nobody left to join, or others are at it."""
    async with database.write() as connection:
        found = await fetch(connection, _DEFAULT_NEXT)
        if not found:
            return False
        conversation_id, after = found[0]
        people = [row[0] for row in await fetch(connection, _DEFAULT_PEOPLE, after, _STEP)]
        if people and await fetch(connection, _DEFAULT_LOCK, conversation_id):
            await _join(database, connection, conversation_id, people)
            await execute(connection, _DEFAULT_GO_ON, conversation_id, people[-1])
        else:  # all of them, or it is a default no more
            await execute(connection, _DEFAULT_DONE, conversation_id)
    return True


async def _join(database: Database, connection: Connection, conversation_id: UUID, people: list[str]) -> None:
    [(rev, joined)] = await fetch(connection, _JOIN, conversation_id, people)
    if rev is not None:
        await database.announce(connection, [Moved(conversation_id, rev, tuple(joined))])
