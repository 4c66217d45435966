"""A change set is written once for everyone; its cursors are put in front for each reader."""

from __future__ import annotations

from uuid import UUID

from nestrel.core.cursors import ChangePosition, CursorSeal


def addressed(
    seal: CursorSeal,
    member: str,
    start: ChangePosition | None,
    end: ChangePosition,
    conversation_id: UUID,
    tail: str,
    base: str | None = None,
    opening: str = "{",
) -> tuple[str, str]:
    """The reader's new cursor, and the JSON object whose other fields are `tail`. `base` saves sealing `start` again
    where its cursor is known; `opening` may bring more fields."""
    if base is None and start is not None:
        base = seal.conversation(member, conversation_id, start)
    cursor = seal.conversation(member, conversation_id, end)
    quoted = "null" if base is None else f'"{base}"'
    return cursor, f'{opening}"base":{quoted},"cursor":"{cursor}",{tail}'
