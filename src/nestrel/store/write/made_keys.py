"""Idempotency keys with which conversations were made. For a day a repeat finds what the first request made."""

from __future__ import annotations

from typing import NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.core.commands import digest
from nestrel.core.problems import KeyReused
from nestrel.store.native import Connection, execute, fetch

_MADE_KEY_OVER = f"clock_timestamp() - interval '{limits.MADE_KEY_HOURS} hours'"
# Waits for whoever makes something by the same key at this moment.
_MADE_KEY_CLAIM = f"""
INSERT INTO nestrel.made_keys AS k (user_id, key_hash, fingerprint, conversation_id) VALUES ($1, $2, $3, $4)
ON CONFLICT (user_id, key_hash) DO UPDATE
SET fingerprint = excluded.fingerprint, conversation_id = excluded.conversation_id, made_at = clock_timestamp()
WHERE k.made_at < {_MADE_KEY_OVER}
RETURNING true
"""
_MADE_KEY_EARLIER = "SELECT fingerprint, conversation_id FROM nestrel.made_keys WHERE user_id = $1 AND key_hash = $2"
_MADE_KEY_FORGET = f"DELETE FROM nestrel.made_keys WHERE made_at < {_MADE_KEY_OVER}"


class MakingKey(NamedTuple):
    """A caller's key, and the hash of what was asked for with it."""

    key: str
    fingerprint: bytes


async def claim(connection: Connection, user_id: str, key: MakingKey, conversation_id: UUID) -> UUID | None:
    """Let a key stand for a conversation that this transaction makes; or, if it stands for one already, that one.

    Raises:
        KeyReused: it was used for something else.
    """
    key_hash = digest(f"{user_id}\x00{key.key}")
    if await fetch(connection, _MADE_KEY_CLAIM, user_id, key_hash, key.fingerprint, conversation_id):
        return None
    [(fingerprint, earlier)] = await fetch(connection, _MADE_KEY_EARLIER, user_id, key_hash)
    if fingerprint != key.fingerprint:
        raise KeyReused("you have used this key to make another conversation; choose a new key for a new one")
    found: UUID = earlier
    return found


async def forget(connection: Connection) -> None:
    """Forget the keys whose day is over."""
    await execute(connection, _MADE_KEY_FORGET)
