"""Who holds which display name, where a name belongs to one person. It is decided under a lock on the key, so that one
of two who want a name at the same moment gets it."""

from __future__ import annotations

from collections.abc import Iterator

from nestrel.core import limits
from nestrel.core.problems import NameTaken
from nestrel.core.skeleton import Skeletons
from nestrel.store.native import Connection, execute, fetch

_HOLDING_LOCK = "SELECT pg_advisory_xact_lock(hashtextextended($1 || ' name ' || $2, 0))"
_HELD = f"""
SELECT 1 FROM nestrel.held_names WHERE key = $1 AND user_id <> $2
AND (given_up_at IS NULL OR (given_up_at > clock_timestamp() - interval '{limits.NAME_RESERVED_DAYS} days' AND NOT $3))
LIMIT 1
"""
_HOLDING_GIVE_UP = """
UPDATE nestrel.held_names SET given_up_at = clock_timestamp()
WHERE user_id = $1 AND kind = 'name' AND key <> $2 AND given_up_at IS NULL
"""
_HOLDING_HOLD = """
INSERT INTO nestrel.held_names (user_id, kind, key, name) VALUES ($1, $2, $3, $4)
ON CONFLICT (user_id, kind, key) DO UPDATE SET name = excluded.name, given_up_at = NULL
"""
_NAMED_SO = "SELECT user_id, name FROM nestrel.held_names WHERE key = $1 AND kind = 'name' AND user_id <> $2 " \
            "AND given_up_at IS NULL"  # fmt: skip
_HOLDING_FORGET = f"""
DELETE FROM nestrel.held_names WHERE given_up_at < clock_timestamp() - interval '{limits.NAME_RESERVED_DAYS} days'
"""


async def hold(connection: Connection, skeletons: Skeletons, user_id: str, name: str) -> None:
    """Take a name. Raises `NameTaken` where another holds it, or gave it up lately, or is called so by their id."""
    if not await _take(connection, skeletons, user_id, name):
        raise NameTaken(f"somebody else is called {name!r}, or so that it looks the same; choose another name")


async def hold_numbered(connection: Connection, skeletons: Skeletons, user_id: str, name: str) -> str:
    """Take a name, or the first with a number behind it that is free; the one that was taken."""
    for candidate in _numbered(name):
        if await _take(connection, skeletons, user_id, candidate):
            return candidate
    raise AssertionError("there is always another number")


async def hold_id(connection: Connection, skeletons: Skeletons, user_id: str) -> list[tuple[str, str]]:
    """Note the id of a newcomer, which is theirs; returns whoever has it for a name, with that name."""
    key = skeletons.key(user_id)
    await execute(connection, _HOLDING_LOCK, connection.schema, key)
    await execute(connection, _HOLDING_HOLD, user_id, "id", key, user_id)
    return [(row[0], row[1]) for row in await fetch(connection, _NAMED_SO, key, user_id)]


async def forget(connection: Connection) -> None:
    """Names that were given up long ago are anybody's."""
    await execute(connection, _HOLDING_FORGET)


async def _take(connection: Connection, skeletons: Skeletons, user_id: str, name: str) -> bool:
    key = skeletons.key(name)
    await execute(connection, _HOLDING_LOCK, connection.schema, key)
    own = key == skeletons.key(user_id)  # which nobody keeps from them by having been called so
    if await fetch(connection, _HELD, key, user_id, own):
        return False
    await execute(connection, _HOLDING_GIVE_UP, user_id, key)
    await execute(connection, _HOLDING_HOLD, user_id, "name", key, name)
    return True


def _numbered(name: str) -> Iterator[str]:
    yield name
    n = 2
    while True:
        behind = f" {n}"
        yield name[: limits.DISPLAY_NAME_CHARS - len(behind)] + behind
        n += 1
