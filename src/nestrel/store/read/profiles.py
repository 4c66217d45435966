"""Profiles, looked up once for a page."""

from __future__ import annotations

from collections.abc import Iterable

from nestrel.store import rows
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire

_PROFILE_READ = f"SELECT {rows.PROFILE_COLUMNS} FROM nestrel.profiles WHERE user_id = ANY($1::text[])"


async def read(connection: Connection, user_ids: Iterable[str]) -> dict[str, Wire]:
    """The profiles of a page, each once; someone never seen is shown by user id."""
    wanted = sorted(set(user_ids))
    if not wanted:
        return {}
    found = await fetch(connection, _PROFILE_READ, wanted)
    known = {row[0]: rows.profile(*row) for row in found}
    return {user_id: known.get(user_id) or rows.profile(user_id, None, None, None) for user_id in wanted}
