"""The connections of all processes: each keeps its own part of the list to date."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.store import rows
from nestrel.store.database import Database
from nestrel.store.native import Connection, array, execute, fetch, texts
from nestrel.store.rows import Wire
from nestrel.store.write import audit

_CONNECTION_PUT = """
INSERT INTO nestrel.connections AS c (connection_id, user_id, node, since, kind, follows, behind)
SELECT w.connection_id, w.user_id, $1, w.since, w.kind, w.follows, w.behind
FROM unnest($2::text::text[], $3::text::text[], $4::text::timestamptz[], $5::text::text[], $6::text::int[],
            $7::text::int[]) AS w (connection_id, user_id, since, kind, follows, behind)
ON CONFLICT (connection_id) DO UPDATE
SET user_id = excluded.user_id, follows = excluded.follows, behind = excluded.behind
"""
_CONNECTION_DELETE = "DELETE FROM nestrel.connections WHERE connection_id = ANY($1::text::text[])"
_DELETE_ALL = "DELETE FROM nestrel.connections WHERE node = $1"
# A server that was started anew has lost the list, which is of passing worth.
_CONNECTION_ENDED = """
WITH there AS (UPDATE nestrel.processes SET beat_at = clock_timestamp() WHERE node = $1)
SELECT ARRAY(SELECT connection_id FROM nestrel.connections WHERE node = $1 AND ended), pg_postmaster_start_time()
"""
_CONNECTION_END = "UPDATE nestrel.connections SET ended = true WHERE connection_id = $1 AND NOT ended RETURNING user_id"
_ELSEWHERE = """
SELECT (SELECT count(*) FROM nestrel.connections WHERE user_id = u.id AND node <> $2)
FROM unnest($1::text[]) WITH ORDINALITY AS u (id, n) ORDER BY u.n
"""
# Those were there together with all of somebody's whose process has told of its own after the newest of them began: it
# was there, and so were they. Of another process those may be that somebody has come from.
_ELSEWHERE_AT_ONCE = """
SELECT (SELECT count(*) FROM nestrel.connections c JOIN nestrel.processes p ON p.node = c.node
        WHERE c.user_id = u.id AND c.node <> $2 AND p.beat_at > newest.since + interval '0.5 s')
FROM unnest($1::text[]) WITH ORDINALITY AS u (id, n)
CROSS JOIN LATERAL (SELECT max(since) AS since FROM nestrel.connections WHERE user_id = u.id) newest
ORDER BY u.n
"""
# Of a process that was killed nobody takes them away but the next look.
_CONNECTION_BURY = (
    "DELETE FROM nestrel.connections c WHERE NOT EXISTS (SELECT FROM nestrel.processes p WHERE p.node = c.node)"
)
_CONNECTION_PAGE = """
SELECT connection_id, user_id, node, since, kind, follows, behind FROM nestrel.connections c
WHERE connection_id > $1 AND ($2::text IS NULL OR user_id = $2) AND NOT ended
  AND EXISTS (SELECT FROM nestrel.processes p WHERE p.node = c.node AND p.beat_at > clock_timestamp() - interval '15 s')
ORDER BY connection_id LIMIT $3
"""


class Open(NamedTuple):
    """A connection as it is listed. `behind` is of how many conversations something is still to be sent."""

    id: str
    user_id: str
    since: datetime
    kind: str
    follows: int
    behind: int


async def tell(
    database: Database, node: str, changed: Sequence[Open], gone: Collection[str]
) -> tuple[list[str], datetime]:
    """Bring a process's part of the list to date; the ids of those that are to be ended, and since when the server
    runs."""
    async with database.read() as connection:
        if gone:
            await execute(connection, _CONNECTION_DELETE, texts(list(gone)))
        if changed:
            await execute(
                connection, _CONNECTION_PUT, node,
                texts([one.id for one in changed]), texts([one.user_id for one in changed]),
                array([one.since for one in changed]), texts([one.kind for one in changed]),
                array([one.follows for one in changed]), array([one.behind for one in changed]),
            )  # fmt: skip
        [(ended, started)] = await fetch(connection, _CONNECTION_ENDED, node)
        return ended, started


async def tidy(database: Database) -> None:
    """Forget those of processes that are no more."""
    async with database.read() as connection:
        await execute(connection, _CONNECTION_BURY)


async def leave(database: Database, node: str) -> None:
    """A process stops."""
    async with database.read() as connection:
        await execute(connection, _DELETE_ALL, node)


async def elsewhere(connection: Connection, user_ids: Sequence[str], node: str) -> list[int]:
    """How many connections each of some users has at other processes."""
    return [int(row[0]) for row in await fetch(connection, _ELSEWHERE, user_ids, node)]


async def elsewhere_at_once(connection: Connection, user_ids: Sequence[str], node: str) -> list[int]:
    """How many of them were there at one time with those that each has here; some seconds after the last has come, all
    of them."""
    return [int(row[0]) for row in await fetch(connection, _ELSEWHERE_AT_ONCE, user_ids, node)]


async def page(connection: Connection, user_id: str | None, limit: int, after: str) -> tuple[list[Wire], str | None]:
    """Connections by id, and the id to continue after; None at the end."""
    found = await fetch(connection, _CONNECTION_PAGE, after, user_id, limit + 1)
    return [_wire(row) for row in found[:limit]], found[limit - 1][0] if len(found) > limit else None


async def end(database: Database, caller: Caller, connection_id: str) -> None:
    """Have a connection ended, on whatever process it is; one that is not there is ended already."""
    async with database.write() as connection:
        found = await fetch(connection, _CONNECTION_END, connection_id)
        if found:
            await audit.record(
                connection, caller, Act.CONNECTION_ENDED, user_id=found[0][0], after={"connection_id": connection_id}
            )


def _wire(row: Any) -> Wire:
    return {
        "connection_id": row[0],
        "user_id": row[1],
        "process": row[2],
        "since": rows.wire_time(row[3]),
        "kind": row[4],
        "follows": row[5],
        "behind": row[6],
    }
