"""Titles and names of conversations, read once for a page."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire

_CALLED_CALLED = "SELECT id, name, title, kind FROM nestrel.conversations WHERE id = ANY($1::uuid[])"


async def read(connection: Connection, ids: Iterable[UUID]) -> dict[str, Wire]:
    """What the conversations of a page are called, by id; one that is gone is left out."""
    wanted = list(set(ids))
    if not wanted:
        return {}
    found = await fetch(connection, _CALLED_CALLED, wanted)
    return {str(id_): {"name": name, "title": title, "kind": kind} for id_, name, title, kind in found}
