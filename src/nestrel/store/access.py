"""How a caller stands to a conversation, read in one statement."""

from __future__ import annotations

from dataclasses import dataclass
from uuid import UUID

from sqlalchemy.ext.asyncio import AsyncConnection

from nestrel.core.problems import NotFound
from nestrel.core.roles import Kind, Role, Standing, Visibility
from nestrel.store.native import fetch

_ACCESS = """
SELECT c.kind, c.visibility, c.head, c.floor, c.rev, m.role
FROM conversations c
LEFT JOIN members m ON m.conversation_id = c.id AND m.user_id = $2 AND m.left_at IS NULL
WHERE c.id = $1 AND c.closed_at IS NULL
"""


@dataclass(frozen=True, slots=True)
class Caller:
    """Who a command or a question comes from."""

    user_id: str
    service: bool = False


@dataclass(frozen=True, slots=True)
class Access:
    """A conversation that the caller may see, as it stood at the read: `rev` and `head` name one moment."""

    id: UUID
    standing: Standing
    head: int
    floor: int
    rev: int


def not_found(conversation_id: UUID) -> NotFound:
    return NotFound(f"there is no conversation {conversation_id} that you may see")


async def see(connection: AsyncConnection, conversation_id: UUID, caller: Caller, *, lock: bool = False) -> Access:
    """The conversation for a caller who may see it. `lock` holds its row until the transaction ends.

    Raises:
        NotFound: it does not exist, is closed, or the caller may not know of it.
    """
    sql = _ACCESS + "FOR NO KEY UPDATE OF c" if lock else _ACCESS
    found = await fetch(connection, sql, conversation_id, caller.user_id)
    if not found:
        raise not_found(conversation_id)
    kind, visibility, head, floor, rev, role = found[0]
    standing = Standing(Kind(kind), Visibility(visibility), Role(role) if role else None, caller.service)
    if not standing.may_see:
        raise not_found(conversation_id)
    return Access(conversation_id, standing, head, floor, rev)
