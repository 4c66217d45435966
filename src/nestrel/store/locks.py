"""Locks by name: rows of a table of the service's own, held until the transaction ends. An advisory lock would be
anybody's who may connect to the database."""

from __future__ import annotations

from nestrel.store.native import Connection, fetch

_TRY = "SELECT FROM nestrel.locks WHERE name = $1 FOR UPDATE SKIP LOCKED"
# Many share a lock, which is held for a few statements.
_WAIT = "SELECT FROM nestrel.locks WHERE name = $1 || ' ' || (hashtextextended($2, 0) & 255) FOR UPDATE"


async def alone(connection: Connection, name: str) -> bool:
    """Hold a lock that nobody holds: `posts waiting`, `adopting names` or `retention`. False: somebody is at it."""
    return bool(await fetch(connection, _TRY, name))


async def wait(connection: Connection, kind: str, of: str) -> None:
    """Wait for the lock of one of many, such as a `pair`. A transaction waits for one of a kind, or others could wait
    for it in a ring."""
    await fetch(connection, _WAIT, kind, of)
