"""Message rows to message objects, with their reactions: one look-up for all of them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any, NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.store import rows
from nestrel.store.native import Connection, array, fetch
from nestrel.store.rows import Wire

# Names are in the order of their code points, which is what the write path goes by when it keeps them right.
_REACTIONS = f"""
SELECT i.n - 1, c.symbol, c.count, ARRAY(
    SELECT r.user_id FROM nestrel.reactions r
    WHERE r.conversation_id = i.conversation_id AND r.seq = i.seq AND r.symbol = c.symbol
    ORDER BY r.user_id LIMIT {limits.REACTION_NAMES}
), c.since, c.rev
FROM unnest($1::text::uuid[], $2::text::bigint[]) WITH ORDINALITY AS i (conversation_id, seq, n)
JOIN LATERAL (SELECT symbol, count, since, rev FROM nestrel.reaction_counts
    WHERE conversation_id = i.conversation_id AND seq = i.seq) c ON true
ORDER BY i.n, c.since, c.symbol
"""


class Reacted(NamedTuple):
    """One symbol on the message asked for at place `of`; its `total` may be 0, at the `rev` that made it so."""

    of: int
    symbol: str
    total: int
    by: list[str]
    since: int
    rev: int


async def reactions(connection: Connection, asked: Sequence[tuple[UUID, int]]) -> Iterable[Reacted]:
    """The reactions on messages, each symbol in the order in which it came."""
    if not asked:
        return []
    found = await fetch(connection, _REACTIONS, array([one[0] for one in asked]), array([one[1] for one in asked]))
    return [Reacted(*row) for row in found]


def bear(message: Wire, reacted: Reacted) -> None:
    """Put a symbol on a message object; the message's `rev` is the newest of its row's and of its reactions'."""
    message["rev"] = max(message["rev"], reacted.rev)
    if reacted.total:
        message["reactions"].append({"symbol": reacted.symbol, "count": reacted.total, "by": reacted.by})


async def wires(connection: Connection, found: Sequence[tuple[UUID, Sequence[Any]]]) -> list[Wire]:
    """Message objects of rows in the order of `rows.MESSAGE_COLUMNS`, each with its conversation."""
    messages = [rows.message(str(conversation_id), row) for conversation_id, row in found]
    for reacted in await reactions(connection, [(conversation_id, row[0]) for conversation_id, row in found]):
        bear(messages[reacted.of], reacted)
    return messages


async def wires_of(connection: Connection, conversation_id: UUID, found: Sequence[Sequence[Any]]) -> list[Wire]:
    """The same for rows of one conversation."""
    return await wires(connection, [(conversation_id, row) for row in found])
