"""Consumers of the journal: each is held by one process at a time, and stands at a cursor that is kept.

A lease ends by itself when its holder does not renew it. It is fenced: whoever takes it gets a higher number, and under
a lower one nothing is written any more.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import NamedTuple

from nestrel.store.database import Database
from nestrel.store.native import execute, fetch

SECONDS = 6.0
"""How long a lease holds when it is not renewed; with the time between two looks at most ten until another has it."""

# Which are wanted by somebody, and held by nobody; one that another process is just taking is passed over.
_CONSUMER_TAKE = """
UPDATE nestrel.consumers c SET lease = c.lease + 1, holder = $1,
    held_until = clock_timestamp() + make_interval(secs => $2::float8)
FROM (SELECT name FROM nestrel.consumers
      WHERE wanted AND held_until < clock_timestamp() AND name <> ALL($3::text[]) AND ($4 OR name <> 'search')
      ORDER BY held_until LIMIT $5 FOR UPDATE SKIP LOCKED) free
WHERE c.name = free.name RETURNING c.name, c.lease, c.cursor
"""
_RENEW = """
UPDATE nestrel.consumers SET held_until = clock_timestamp() + make_interval(secs => $2::float8)
WHERE holder = $1 AND wanted AND name = ANY($3::text[]) RETURNING name, lease
"""
_RELEASE = """
UPDATE nestrel.consumers SET held_until = '-infinity', holder = NULL WHERE holder = $1 AND name = ANY($2::text[])
"""
_CONSUMER_KEEP = """
UPDATE nestrel.consumers SET cursor = $3, kept_at = clock_timestamp()
WHERE name = $1 AND lease = $2 AND wanted RETURNING 1
"""


class TakenLease(NamedTuple):
    """A lease of a consumer, by its number; its cursor is null where it has never stood anywhere."""

    name: str
    lease: int
    cursor: str | None


async def take(database: Database, node: str, but: Collection[str], most: int, *, search: bool) -> list[TakenLease]:
    """Take some that nobody holds; `search` says whether this process indexes."""
    async with database.write_at_once() as connection:
        return [
            TakenLease(*row) for row in await fetch(connection, _CONSUMER_TAKE, node, SECONDS, list(but), search, most)
        ]


async def renew(database: Database, node: str, names: Sequence[str]) -> dict[str, int]:
    """Hold on to some; those that are still held, each with its lease."""
    async with database.write_at_once() as connection:
        return dict(await fetch(connection, _RENEW, node, SECONDS, list(names)))


async def release(database: Database, node: str, names: Sequence[str]) -> None:
    """Let others have some at once."""
    async with database.write_at_once() as connection:
        await execute(connection, _RELEASE, node, list(names))


async def keep(database: Database, name: str, lease: int, cursor: str) -> bool:
    """Keep where a consumer stands; False if the lease is somebody else's by now."""
    async with database.write_at_once() as connection:
        return bool(await fetch(connection, _CONSUMER_KEEP, name, lease, cursor))
