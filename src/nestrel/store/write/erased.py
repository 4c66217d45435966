"""Identities that were erased. Nobody can sign in under one or bring one back. They are known by a digest."""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime
from uuid import UUID

from nestrel.core.problems import InvalidRequest, invalid
from nestrel.store.native import Connection, execute, fetch

_BAR = """
INSERT INTO nestrel.erased_identities (erasure_id, digest) VALUES ($1, nestrel.identity_v1($2))
ON CONFLICT (digest) DO NOTHING RETURNING 1
"""
_ERASED = """
SELECT u.id FROM unnest($1::text[]) AS u (id)
WHERE EXISTS (SELECT FROM nestrel.erased_identities) AND nestrel.erased_v1(u.id)
"""
_LIFT = "UPDATE nestrel.erased_identities SET digest = NULL, changed_at = clock_timestamp() WHERE erasure_id = $1"
_ERASED_CHANGED = "SELECT erasure_id, digest IS NULL, changed_at FROM nestrel.erased_identities WHERE changed_at >= $1"
_ERASED_FORGET = """
DELETE FROM nestrel.erased_identities WHERE digest IS NULL AND changed_at < clock_timestamp() - interval '1 day'
"""


async def bar(connection: Connection, erasure_id: UUID, user_id: str) -> bool:
    """From the commit on nobody is let in under an id. False: so it is already, by another erasure."""
    return bool(await fetch(connection, _BAR, erasure_id, user_id))


async def among(connection: Connection, user_ids: Collection[str]) -> set[str]:
    """Those of some ids that were erased."""
    return {row[0] for row in await fetch(connection, _ERASED, list(user_ids))}


async def check_none(connection: Connection, user_ids: Collection[str], pointer: str) -> None:
    """Whether none of some ids was erased. Raises `InvalidRequest` at `pointer` if one was."""
    if await among(connection, user_ids):
        raise already(pointer)


def already(pointer: str) -> InvalidRequest:
    return invalid(pointer, "this identity was erased, and stays so until its erasure is deleted "
                            "(DELETE /v1/erasures/{erasure_id})")  # fmt: skip


async def lift(connection: Connection, erasure_id: UUID) -> None:
    """Let an id be somebody's again."""
    await execute(connection, _LIFT, erasure_id)


async def changed(connection: Connection, since: datetime) -> dict[tuple[UUID, bool], datetime]:
    """The erasures that have barred an id since then, or let it in again (True), and when."""
    return {(id_, lifted): at for id_, lifted, at in await fetch(connection, _ERASED_CHANGED, since)}


async def forget(connection: Connection) -> None:
    """Forget what was let in again, once every process has learned of it."""
    await execute(connection, _ERASED_FORGET)
