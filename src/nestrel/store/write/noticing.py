"""What a member wants to be told of in a conversation: theirs alone to say and to see."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.problems import Forbidden, NotFound
from nestrel.core.rights import Action
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.native import fetch

# Only what is given is changed; and nothing where somebody has left meanwhile.
_PREFER = """
INSERT INTO nestrel.notice_preferences AS p (conversation_id, user_id, notify, notify_after)
SELECT m.conversation_id, m.user_id, $4, $6 FROM nestrel.members m
WHERE m.conversation_id = $1 AND m.user_id = $2 AND m.left_at IS NULL
ON CONFLICT (conversation_id, user_id) DO UPDATE
SET notify = CASE WHEN $3 THEN excluded.notify ELSE p.notify END,
    notify_after = CASE WHEN $5 THEN excluded.notify_after ELSE p.notify_after END
RETURNING 1
"""


async def prefer(
    database: Database, caller: Caller, conversation_id: UUID, user_id: str, wanted: Mapping[str, Any]
) -> None:
    """Say what one wants to be told of (`notify`), and from when on (`notify_after`; None for at once); what is not
    given stays. It takes no `rev`, and nobody is told of it.

    Raises:
        NotFound: it does not exist, or the caller may not know of it, or is no member.
        Forbidden: as `NotFound` of an open one; also for somebody else.
    """
    async with database.write() as connection:
        await see(connection, conversation_id, caller, Action.HIDE)
        if user_id != caller.user_id:
            raise Forbidden("everyone says for themselves alone what they are told of")
        notify, after = wanted.get("notify"), wanted.get("notify_after")
        values = ("notify" in wanted, notify, "notify_after" in wanted, after)
        if not await fetch(connection, _PREFER, conversation_id, user_id, *values):
            raise NotFound("only a member is told of what is posted; join it first")
