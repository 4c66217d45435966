"""What a rule takes: from how much is over a limit to the new floor, with what goes below it."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from nestrel.core.locked import Locked
from nestrel.core.retention import Excess
from nestrel.store.native import Connection, array, fetch
from nestrel.store.rules import SIZE

# The oldest go, whole, until what is over a limit is covered; each look-up ends there, at the cost of what goes.
_FIND = f"""
SELECT f.floor, gone.messages, gone.size
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::bigint[], $5::text::bigint[])
     WITH ORDINALITY AS i (id, floor, aged, messages, size, n)
CROSS JOIN LATERAL (SELECT greatest(i.aged,
    (SELECT seq + 1 FROM nestrel.messages
     WHERE conversation_id = i.id AND seq >= i.floor AND removed_at IS NULL AND i.messages > 0
     ORDER BY seq OFFSET greatest(i.messages - 1, 0) LIMIT 1),
    (SELECT seq + 1 FROM (
        SELECT seq, sum({SIZE}) OVER (ORDER BY seq ROWS UNBOUNDED PRECEDING) AS size FROM nestrel.messages
        WHERE conversation_id = i.id AND seq >= i.floor AND i.size > 0) s
     WHERE s.size >= i.size ORDER BY seq LIMIT 1)
) AS floor) f
CROSS JOIN LATERAL (SELECT count(*) FILTER (WHERE removed_at IS NULL) AS messages, coalesce(sum({SIZE}), 0) AS size
    FROM nestrel.messages WHERE conversation_id = i.id AND seq >= i.floor AND seq < f.floor) gone
ORDER BY i.n
"""
_AGED = """
SELECT coalesce(nestrel.floor_v1(id, floor, head, $2::timestamptz), floor) FROM unnest($1::text::uuid[]) WITH ORDINALITY
    AS i (wanted, n) JOIN nestrel.conversations ON id = i.wanted ORDER BY i.n
"""


class Expiring(NamedTuple):
    """The floor that a rule wants, and the messages and bytes between the stored floor and it."""

    floor: int
    messages: int
    size: int


class Asked(NamedTuple):
    """A conversation at its stored floor: how far age alone moves it, and what is over the other limits."""

    id: UUID
    floor: int
    aged: int
    excess: Excess


async def aged(connection: Connection, ids: Sequence[UUID], cutoff: datetime) -> list[int]:
    """For each conversation the lowest `seq` from its stored floor up that was written after the cutoff."""
    return [row[0] for row in await fetch(connection, _AGED, array(ids), cutoff)]


async def find(connection: Connection, asked: Sequence[Asked]) -> list[Expiring]:
    """The new floor of each, no lower than what age makes it."""
    found = await fetch(
        connection,
        _FIND,
        array([one.id for one in asked]),
        array([one.floor for one in asked]),
        array([one.aged for one in asked]),
        array([one.excess.messages for one in asked]),
        array([one.excess.bytes for one in asked]),
    )
    return [Expiring(floor, messages, int(size)) for floor, messages, size in found]


async def expire(connection: Connection, places: Sequence[Locked]) -> None:
    """Move the floors of locked conversations past all that their rules do not keep."""
    asked = []
    for place in places:
        excess = place.rule.excess(place.messages, place.size)
        if excess or place.floor > place.stored_floor:
            asked.append((place, Asked(place.id, place.stored_floor, place.floor, excess)))
    if not asked:
        return
    for (place, _), expiring in zip(asked, await find(connection, [one for _, one in asked]), strict=True):
        place.floor = expiring.floor
        place.messages -= expiring.messages
        place.size -= expiring.size
