"""Message rows to message objects, with their reactions: one look-up for all that have any."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from uuid import UUID

from nestrel.core import limits
from nestrel.store import rows
from nestrel.store.native import Connection, array, fetch
from nestrel.store.rows import Wire

_REACTIONS = f"""
SELECT i.n, c.symbol, c.count, ARRAY(
    SELECT r.user_id FROM reactions r
    WHERE r.conversation_id = i.conversation_id AND r.seq = i.seq AND r.symbol = c.symbol
    ORDER BY r.user_id LIMIT {limits.REACTION_NAMES}
)
FROM unnest($1::text::uuid[], $2::text::bigint[]) WITH ORDINALITY AS i (conversation_id, seq, n)
JOIN LATERAL (SELECT symbol, count, since FROM reaction_counts
    WHERE conversation_id = i.conversation_id AND seq = i.seq) c ON true
ORDER BY i.n, c.since, c.symbol
"""


async def wires(connection: Connection, found: Sequence[tuple[UUID, Sequence[Any]]]) -> list[Wire]:
    """Message objects of rows in the order of `rows.MESSAGE_COLUMNS`, each with its conversation."""
    messages = [rows.message(str(conversation_id), row) for conversation_id, row in found]
    marked = [n for n, (_, row) in enumerate(found) if row[rows.SYMBOLS]]
    if marked:
        ids, seqs = array([found[n][0] for n in marked]), array([found[n][1][0] for n in marked])
        for n, symbol, count, by in await fetch(connection, _REACTIONS, ids, seqs):
            messages[marked[n - 1]]["reactions"].append({"symbol": symbol, "count": count, "by": by})
    return messages


async def wires_of(connection: Connection, conversation_id: UUID, found: Sequence[Sequence[Any]]) -> list[Wire]:
    """The same for rows of one conversation."""
    return await wires(connection, [(conversation_id, row) for row in found])
