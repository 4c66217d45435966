"""Long questions whose pages go on: a cursor names them, as it has no room for them."""

from __future__ import annotations

import base64
import hashlib

from nestrel.store.native import Connection, execute, fetch

_KEPT = 100
"""Questions that are kept of one member: the newest."""

_ASKED_KEEP = f"""
WITH kept AS (
    INSERT INTO nestrel.asked (user_id, digest, text) VALUES ($1, $2, $3)
    ON CONFLICT (user_id, digest) DO UPDATE SET at = clock_timestamp()
)
DELETE FROM nestrel.asked WHERE user_id = $1 AND digest IN (
    SELECT digest FROM nestrel.asked WHERE user_id = $1 AND digest <> $2 ORDER BY at DESC OFFSET {_KEPT} - 1)
"""
_ASKED_READ = "SELECT text FROM nestrel.asked WHERE user_id = $1 AND digest = $2"
_ASKED_FORGET = """
DELETE FROM nestrel.asked WHERE (user_id, digest) IN (
    SELECT user_id, digest FROM nestrel.asked WHERE at < clock_timestamp() - interval '2 days' ORDER BY at LIMIT 1000)
"""


def digest(text: str) -> str:
    """A name of 11 characters; 64 bits are enough where a cursor is sealed, and nobody chooses whose name it is."""
    return base64.urlsafe_b64encode(hashlib.blake2b(text.encode(), digest_size=8).digest()).rstrip(b"=").decode()


async def keep(connection: Connection, user_id: str, text: str) -> str:
    """Keep a member's question for two days from its last page on, with the hundred newest; returns its name."""
    name = digest(text)
    await execute(connection, _ASKED_KEEP, user_id, name, text)
    return name


async def read(connection: Connection, user_id: str, name: str) -> str | None:
    """A member's question of a name; None when it has gone."""
    found = await fetch(connection, _ASKED_READ, user_id, name)
    return found[0][0] if found else None


async def forget(connection: Connection) -> None:
    """Drop some of those that nobody has gone on with."""
    await execute(connection, _ASKED_FORGET)
