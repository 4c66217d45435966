"""What a rule takes away: from the excess over a limit to the new floor, and the rows below it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from nestrel.core.locked import Locked
from nestrel.core.retention import Excess, Rule
from nestrel.store import rules
from nestrel.store.native import Connection, array, fetch
from nestrel.store.rules import SIZE

# The oldest go, whole, until what is over a limit is covered; each look-up ends there, at the cost of what goes.
_EXPIRY_FIND = f"""
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
_EXPIRY_AGED = """
SELECT coalesce(nestrel.floor_v1(id, floor, head, $2::timestamptz), floor) FROM unnest($1::text::uuid[]) WITH ORDINALITY
    AS i (wanted, n) JOIN nestrel.conversations ON id = i.wanted ORDER BY i.n
"""


_EXPIRY_STATES = f"""
SELECT id, floor, {rules.floor("c")}, rev, message_count, kept_bytes, clock_timestamp(), {rules.RULE_COLUMNS}
FROM nestrel.conversations c WHERE id = ANY($1::text::uuid[]) AND closed_at IS NULL ORDER BY id
"""
_EXPIRY_TOUCHED = """
SELECT EXISTS (SELECT FROM nestrel.messages WHERE conversation_id = $1 AND changed AND rev > $2 AND seq < $3)
"""


class Expiring(NamedTuple):
    """The floor that a rule wants, and the messages and bytes between the stored floor and it."""

    floor: int
    messages: int
    size: int


class FloorBounds(NamedTuple):
    """A conversation at its stored floor: how far age alone moves it, and what is over the other limits."""

    id: UUID
    floor: int
    aged: int
    excess: Excess


async def aged(connection: Connection, ids: Sequence[UUID], cutoff: datetime) -> list[int]:
    """For each conversation the lowest `seq` from its stored floor up that was written after the cutoff."""
    return [row[0] for row in await fetch(connection, _EXPIRY_AGED, array(ids), cutoff)]


async def find(connection: Connection, asked: Sequence[FloorBounds]) -> list[Expiring]:
    """The new floor of each, no lower than what age makes it."""
    found = await fetch(
        connection,
        _EXPIRY_FIND,
        array([one.id for one in asked]),
        array([one.floor for one in asked]),
        array([one.aged for one in asked]),
        array([one.excess.messages for one in asked]),
        array([one.excess.bytes for one in asked]),
    )
    return [Expiring(floor, messages, int(size)) for floor, messages, size in found]


class Measured(NamedTuple):
    """What a rule takes from a conversation, counted with nobody waiting for it: from the stored floor, as things
    stood at `rev`. `takes`: more than nothing goes."""

    stored_floor: int
    rev: int
    found: Expiring

    @property
    def takes(self) -> bool:
        return self.found.floor > self.stored_floor


async def measure(connection: Connection, ids: Sequence[UUID], rule: Rule | None = None) -> dict[UUID, Measured]:
    """Count what a rule, or each conversation's own, takes from conversations now. Under a lock only what has changed
    since is left to count (`expire`)."""
    states = await fetch(connection, _EXPIRY_STATES, array(sorted(ids)))
    if not states:
        return {}
    own = [rules.rule(*row[7:]) for row in states]
    agings = [row[2] for row in states]
    cutoff = rule.cutoff(states[0][6]) if rule is not None else None
    if cutoff is not None:
        found = await aged(connection, [row[0] for row in states], cutoff)
        agings = [max(old, new) for old, new in zip(agings, found, strict=True)]
    asked = [
        FloorBounds(row[0], row[1], aging, (rule or held).excess(row[4], row[5]))
        for row, held, aging in zip(states, own, agings, strict=True)
    ]
    wanted = await find(connection, asked)
    return {row[0]: Measured(row[1], row[3], one) for row, one in zip(states, wanted, strict=True)}


async def expire(
    connection: Connection, places: Sequence[Locked], measured: Mapping[UUID, Measured] | None = None
) -> None:
    """Move the floors of locked conversations past all that their rules do not keep. What has been `measured` before
    is not counted again, unless something of it has changed."""
    asked = []
    for place in places:
        begin = place.stored_floor
        before = measured.get(place.id) if measured else None
        if before is not None and before.takes and await _stands(connection, place, before):
            begin = before.found.floor
            place.messages -= before.found.messages
            place.size -= before.found.size
        excess = place.rule.excess(place.messages, place.size)
        if excess or place.floor > begin:
            asked.append((place, FloorBounds(place.id, begin, place.floor, excess)))
        else:
            place.floor = max(place.floor, begin)
    if not asked:
        return
    for (place, _), expiring in zip(asked, await find(connection, [one for _, one in asked]), strict=True):
        place.floor = expiring.floor
        place.messages -= expiring.messages
        place.size -= expiring.size


async def _stands(connection: Connection, place: Locked, before: Measured) -> bool:
    """Whether what was measured is still so: nothing of what goes has been edited or removed since."""
    if place.stored_floor != before.stored_floor:
        return False
    if place.rev_before == before.rev:
        return True
    touched = await fetch(connection, _EXPIRY_TOUCHED, place.id, before.rev, before.found.floor)
    return not touched[0][0]
