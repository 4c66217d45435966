"""Blocks: no direct conversation with me, no posts in one that exists, and no adding me."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from nestrel.core import limits
from nestrel.core.problems import Forbidden, OverQuota, invalid
from nestrel.core.roles import direct_pair
from nestrel.store import locks
from nestrel.store.database import Database
from nestrel.store.native import Connection, execute, fetch

_BLOCK_PUT = f"""
INSERT INTO nestrel.blocks (user_id, blocked_id)
SELECT $1, $2 WHERE (SELECT count(*) FROM nestrel.blocks WHERE user_id = $1) < {limits.BLOCKS}
ON CONFLICT DO NOTHING RETURNING blocked_at
"""
_BLOCK_FIND = "SELECT blocked_at FROM nestrel.blocks WHERE user_id = $1 AND blocked_id = $2"
_BLOCK_DELETE = "DELETE FROM nestrel.blocks WHERE user_id = $1 AND blocked_id = $2"
_BLOCK_PAGE = """
SELECT blocked_id, blocked_at FROM nestrel.blocks WHERE user_id = $1 AND blocked_id > $2 ORDER BY blocked_id LIMIT $3
"""
_EITHER = """
SELECT EXISTS (SELECT FROM nestrel.blocks
    WHERE (user_id = $1 AND blocked_id = $2) OR (user_id = $2 AND blocked_id = $1))
"""
_MARK = """
UPDATE nestrel.conversations SET blocked = $2 WHERE direct_pair = $1 AND closed_at IS NULL AND blocked <> $2
"""
_BLOCKED_BY = """
SELECT i.user_id FROM unnest($2::text[]) AS i (user_id)
CROSS JOIN LATERAL (SELECT FROM nestrel.blocks WHERE user_id = i.user_id AND blocked_id = $1 LIMIT 1) b
"""


async def put(database: Database, user_id: str, blocked_id: str) -> tuple[datetime, bool]:
    """Block someone; since when, and whether that is new.

    Raises:
        InvalidRequest: it is oneself.
        OverQuota: these are too many.
    """
    if user_id == blocked_id:
        raise invalid("/user_id", "nobody blocks themself")
    async with database.write() as connection:
        await _lock(connection, user_id, blocked_id)
        found = await fetch(connection, _BLOCK_PUT, user_id, blocked_id)
        new = bool(found)
        found = found or await fetch(connection, _BLOCK_FIND, user_id, blocked_id)
        if not found:
            raise OverQuota(
                f"you block at most {limits.BLOCKS:,} people", extra={"quota": "blocks", "limit": limits.BLOCKS}
            )
        if new:
            await execute(connection, _MARK, direct_pair(user_id, blocked_id), True)
    since: datetime = found[0][0]
    return since, new


async def since(connection: Connection, user_id: str, blocked_id: str) -> datetime | None:
    """Since when somebody blocks another; None where they do not."""
    found = await fetch(connection, _BLOCK_FIND, user_id, blocked_id)
    return found[0][0] if found else None


async def delete(database: Database, user_id: str, blocked_id: str) -> None:
    """Block someone no longer."""
    async with database.write() as connection:
        await _lock(connection, user_id, blocked_id)
        await execute(connection, _BLOCK_DELETE, user_id, blocked_id)
        [(still,)] = await fetch(connection, _EITHER, user_id, blocked_id)
        await execute(connection, _MARK, direct_pair(user_id, blocked_id), still)


async def page(
    connection: Connection, user_id: str, limit: int, after: str
) -> tuple[list[tuple[str, datetime]], str | None]:
    """Whom someone blocks, by user id, and the id to continue after; None at the end."""
    found = [(row[0], row[1]) for row in await fetch(connection, _BLOCK_PAGE, user_id, after, limit + 1)]
    return found[:limit], found[limit - 1][0] if len(found) > limit else None


async def check_pair(connection: Connection, user_id: str, other_id: str, *, refusal: Forbidden) -> None:
    """Hold the pair until the transaction ends, and see that neither blocks the other. Raises the `refusal`, the same
    for both."""
    await _lock(connection, user_id, other_id)
    [(blocked,)] = await fetch(connection, _EITHER, user_id, other_id)
    if blocked:
        raise refusal


async def blocked_by(connection: Connection, user_id: str, others: Sequence[str]) -> bool:
    """Whether one of the others blocks someone."""
    return bool(await fetch(connection, _BLOCKED_BY, user_id, others))


async def _lock(connection: Connection, one: str, other: str) -> None:
    """Who makes a direct conversation and who blocks wait for each other: otherwise one would see no conversation to
    mark, and the other no block."""
    await locks.wait(connection, "pair", direct_pair(one, other))
