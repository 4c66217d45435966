"""Who may signal: whoever may post."""

from __future__ import annotations

from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.problems import Forbidden
from nestrel.core.rights import Action
from nestrel.store.access import see
from nestrel.store.native import Connection, fetch

_SIGNALLING_BLOCKED = "SELECT blocked FROM nestrel.conversations WHERE id = $1"


async def check(connection: Connection, caller: Caller, conversation_id: UUID) -> None:
    """Whether the caller may tell those who follow that they are writing.

    Raises:
        NotFound: it does not exist, is closed, or the caller may not know of it.
        Forbidden: they may not post there, or the other of the two has nothing to do with them.
    """
    await see(connection, conversation_id, caller, Action.POST)
    if (await fetch(connection, _SIGNALLING_BLOCKED, conversation_id))[0][0]:
        raise Forbidden("this conversation takes no messages")  # the same for both, as for a post
