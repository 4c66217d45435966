"""A change set is written once for everyone; its cursors are put in front for each reader."""

from __future__ import annotations

from nestrel.core.cursors import CursorSeal
from nestrel.store.read.changes import Changes


def written(base: str | None, cursor: str, tail: str, opening: str = "{") -> str:
    """The JSON object whose other fields are `tail`; `opening` may bring more in front."""
    quoted = "null" if base is None else f'"{base}"'
    return f'{opening}"base":{quoted},"cursor":"{cursor}",{tail}'


def addressed(seal: CursorSeal, member: str, changes: Changes) -> str:
    """A change set for one member as JSON."""
    id_, start = changes.conversation_id, changes.start
    base = None if start is None else seal.conversation(member, id_, start)
    return written(base, seal.conversation(member, id_, changes.end), changes.tail())
