"""What a rule would take away, counted by day, before it is set."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from uuid import UUID

from nestrel.core.retention import Rule, Source
from nestrel.core.roles import Kind
from nestrel.store import rows, rules
from nestrel.store.native import Connection, array, fetch
from nestrel.store.rows import Wire
from nestrel.store.rules import SIZE
from nestrel.store.write import expiry
from nestrel.store.write.expiry import FloorBounds

_PREVIEWING_STATES = f"""
SELECT id, floor, {rules.floor("c")}, message_count, kept_bytes, clock_timestamp() FROM nestrel.conversations c
WHERE id = ANY($1::text::uuid[]) AND closed_at IS NULL ORDER BY id
"""
_BY_DAY = f"""
SELECT m.created_at::date, count(*), sum({SIZE}), min(m.seq), max(m.seq), min(m.created_at), max(m.created_at)
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[]) AS i (id, low, high)
JOIN nestrel.messages m ON m.conversation_id = i.id AND m.seq >= i.low AND m.seq < i.high AND m.removed_at IS NULL
GROUP BY 1
"""
_INHERITING = """
SELECT id FROM nestrel.conversations
WHERE inherits IS NOT NULL AND closed_at IS NULL AND id > $1 AND kind = ANY($3::text[]) ORDER BY id LIMIT $2
"""

_MANY = 200
"""Conversations that one statement goes through."""


@dataclass(slots=True)
class Preview:
    """What a rule would take away now: messages that are no tombstones."""

    expires: int = 0
    first_seq: int | None = None
    last_seq: int | None = None
    first_at: datetime | None = None
    last_at: datetime | None = None
    bytes: int = 0
    by_day: dict[date, int] = field(default_factory=dict)

    def wire(self) -> Wire:
        return {
            "expires": self.expires,
            "first_seq": self.first_seq,
            "last_seq": self.last_seq,
            "first_at": rows.wire_time(self.first_at),
            "last_at": rows.wire_time(self.last_at),
            "bytes": self.bytes,
            "by_day": [{"day": day.isoformat(), "messages": self.by_day[day]} for day in sorted(self.by_day)],
        }


async def preview(connection: Connection, ids: Sequence[UUID], rule: Rule, now: datetime | None = None) -> Preview:
    """What a rule would take from conversations at `now`, by default the present, beyond what theirs has taken."""
    found = Preview()
    states = await fetch(connection, _PREVIEWING_STATES, array(sorted(ids)))
    if not states:
        return found
    cutoff = rule.cutoff(now or states[0][5])
    agings = [row[2] for row in states]
    if cutoff is not None:
        agings = await expiry.aged(connection, [row[0] for row in states], cutoff)
    asked = [
        FloorBounds(id_, floor, max(kept, aged), rule.excess(messages, size))
        for (id_, floor, kept, messages, size, _), aged in zip(states, agings, strict=True)
    ]
    wanted = await expiry.find(connection, asked)
    ranges = [(row[0], row[2], one.floor) for row, one in zip(states, wanted, strict=True) if one.floor > row[2]]
    await _count(connection, found, ranges)
    return found


async def _without_one(connection: Connection) -> list[Kind]:
    """The kinds that have no rule of their own."""
    return [kind for kind in Kind if (await rules.inherited(connection, kind)).source is not Source.KIND]


async def _count(connection: Connection, found: Preview, ranges: Sequence[tuple[UUID, int, int]]) -> None:
    days = await fetch(
        connection,
        _BY_DAY,
        array([one[0] for one in ranges]),
        array([one[1] for one in ranges]),
        array([one[2] for one in ranges]),
    )
    for day, messages, size, first_seq, last_seq, first_at, last_at in days:
        found.expires += messages
        found.bytes += int(size)
        found.first_seq = min(found.first_seq or first_seq, first_seq)
        found.last_seq = max(found.last_seq or last_seq, last_seq)
        found.first_at = min(found.first_at or first_at, first_at)
        found.last_at = max(found.last_at or last_at, last_at)
        found.by_day[day] = found.by_day.get(day, 0) + messages


async def preview_inherited(connection: Connection, rule: Rule, kind: Kind | None) -> Preview:
    """What a rule of a kind's would take from all its conversations without one of their own; or one of the service's
    (None), from those that have none of their kind's either. It has no `seq`."""
    kinds = [kind] if kind is not None else await _without_one(connection)
    total, after = Preview(), UUID(int=0)
    while ids := [row[0] for row in await fetch(connection, _INHERITING, after, _MANY, kinds)]:
        after = ids[-1]
        found = await preview(connection, ids, rule)
        total.expires += found.expires
        total.bytes += found.bytes
        total.first_at = min(filter(None, (total.first_at, found.first_at)), default=None)
        total.last_at = max(filter(None, (total.last_at, found.last_at)), default=None)
        for day, messages in found.by_day.items():
            total.by_day[day] = total.by_day.get(day, 0) + messages
    return total
