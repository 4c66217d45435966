"""Long questions whose pages go on: a cursor names them, as it has no room for them."""

from __future__ import annotations

import base64
import hashlib

from nestrel.store.native import Connection, execute, fetch

_KEEP = """
INSERT INTO nestrel.asked (digest, text) VALUES ($1, $2)
ON CONFLICT (digest) DO UPDATE SET at = clock_timestamp() WHERE asked.at < clock_timestamp() - interval '1 hour'
"""
_READ = "SELECT text FROM nestrel.asked WHERE digest = $1"
_FORGET = """
DELETE FROM nestrel.asked WHERE digest IN (
    SELECT digest FROM nestrel.asked WHERE at < clock_timestamp() - interval '2 days' ORDER BY at LIMIT 1000)
"""


def digest(text: str) -> str:
    """A name of 11 characters; 64 bits are enough where a cursor is sealed, and nobody chooses whose name it is."""
    return base64.urlsafe_b64encode(hashlib.blake2b(text.encode(), digest_size=8).digest()).rstrip(b"=").decode()


async def keep(connection: Connection, text: str) -> str:
    """Keep a question for two days from its last page on; returns its name."""
    name = digest(text)
    await execute(connection, _KEEP, name, text)
    return name


async def read(connection: Connection, name: str) -> str | None:
    """The question of a name; None when it has gone."""
    found = await fetch(connection, _READ, name)
    return found[0][0] if found else None


async def forget(connection: Connection) -> None:
    """Drop some of those that nobody has gone on with."""
    await execute(connection, _FORGET)
