"""Messages made since a time, as they now stand, conversation by conversation: for a webhook that wants them again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import ChangePosition
from nestrel.core.webhooks import Replay
from nestrel.store.native import Connection, array, fetch
from nestrel.store.read import changes as feed
from nestrel.store.read import together
from nestrel.store.read.changes import Changes
from nestrel.store.read.together import UNBOUNDED, ReadRequest

_WALKED = 20_000
"""Conversations that one reading looks at."""
_MANY = 200
_REPLAYING_WALK = """
SELECT id, last_at >= $3 AND closed_at IS NULL
FROM (SELECT id, last_at, closed_at FROM nestrel.conversations
      WHERE id >= $1 AND ($4::uuid IS NULL OR id = $4) ORDER BY id LIMIT $2) c ORDER BY id
"""
_LOWS = "SELECT i.id, nestrel.seq_at_v1(i.id, $2) FROM unnest($1::text::uuid[]) AS i (id)"


@dataclass(slots=True)
class Replaying:
    """One reading, and what is left behind it; None if nothing is."""

    items: list[Changes] = field(default_factory=list)
    rest: Replay | None = None


async def read(connection: Connection, at: Replay, only: UUID | None, most: int) -> Replaying:
    """Read on from `at`, up to about `most` messages, in a transaction of one snapshot."""
    walked = await fetch(connection, _REPLAYING_WALK, at.after, _WALKED, at.since, only)
    wanted = [row[0] for row in walked if row[1]]
    ids = wanted[:_MANY]
    result = Replaying()
    asked: dict[UUID, ReadRequest] = {}
    states = await feed.states(connection, ids)
    for id_, low in await _lows(connection, ids, at):
        state = states[id_]
        low = max(low, state.floor, at.seq + 1 if id_ == at.after else 0)
        if low > state.head:
            continue
        if most <= 0:
            result.rest = replace(at, after=id_, seq=low - 1)
            break
        upto = min(state.head, low + most - 1)
        most -= upto - low + 1
        start = ChangePosition(state.rev, low - 1, state.rev, state.epoch)  # nothing but messages from there on
        asked[id_] = ReadRequest(start, replace(state, head=upto))
    found = await together.read(connection, asked, UNBOUNDED, size=UNBOUNDED, item=UNBOUNDED)
    for id_, changes in found.items():
        changes.more = changes.head < states[id_].head
        changes.head, changes.end = states[id_].head, states[id_].position
        result.items += changes.parts(limits.WEBHOOK_ITEM_BYTES)
        if changes.more:
            result.rest = replace(at, after=id_, seq=asked[id_].state.head)
    if result.rest is None and (len(wanted) > _MANY or len(walked) == _WALKED):
        # Looked at up to there; that one is looked at again, and nothing of it is left.
        last = ids[-1] if len(wanted) > _MANY else walked[-1][0]
        result.rest = replace(at, after=last, seq=states[last].head if last in states else 0)
    return result


async def _lows(connection: Connection, ids: Sequence[UUID], at: Replay) -> list[tuple[UUID, int]]:
    found = dict(await fetch(connection, _LOWS, array(list(ids)), at.since))
    return [(id_, int(found[id_])) for id_ in ids]


async def lows(connection: Connection, at: Replay, only: UUID | None) -> tuple[list[tuple[UUID, int]], Replay | None]:
    """Some of the conversations with messages made since then, each with the first of those; and what is left."""
    walked = await fetch(connection, _REPLAYING_WALK, at.after, _WALKED, at.since, only)
    wanted = [row[0] for row in walked if row[1]]
    ids = wanted[:_MANY]
    found = await _lows(connection, ids, at)
    if len(wanted) > _MANY or len(walked) == _WALKED:
        last = ids[-1] if len(wanted) > _MANY else walked[-1][0]
        return found, replace(at, after=_behind(last), seq=0)
    return found, None


def _behind(id_: UUID) -> UUID:
    """The next id that there could be."""
    return UUID(int=id_.int + 1)
