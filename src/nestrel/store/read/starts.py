"""The counters of conversations at the moment of a snapshot."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from uuid import UUID

from nestrel.core.cursors import AllPosition, ChangePosition
from nestrel.store.native import Connection, array, fetch
from nestrel.store.read.changes import State

_STARTS_SEEN = """(pg_visible_in_snapshot(moved_xid, (SELECT $2::text::pg_snapshot))
      OR moved_xid >= (SELECT pg_snapshot_xmax(pg_current_snapshot())))"""
"""SQL for what a snapshot has seen; what carries a transaction that this history has not come to was there before. What
is the same for all rows is worked out once: to read the text again for each costs more than to look at it."""


def _newest_seen(of: str, what: str, order: str) -> str:
    """The newest row that the snapshot saw, if it is among the first so many: one probe of an index where little has
    moved since."""
    return f"""(SELECT {what} FROM (SELECT {what}, moved_xid FROM nestrel.{of} ORDER BY {order} DESC LIMIT $3) newest
    WHERE {_STARTS_SEEN} ORDER BY {order} DESC LIMIT 1)"""


_STARTS = f"""
SELECT i.n, greatest(m.rev, c.rev, r.rev, p.rev), m.seq
FROM unnest($1::text::uuid[]) WITH ORDINALITY AS i (id, n)
LEFT JOIN LATERAL {_newest_seen("messages WHERE conversation_id = i.id", "seq, rev", "seq")} m ON true
LEFT JOIN LATERAL {_newest_seen("messages WHERE conversation_id = i.id AND changed", "rev", "rev")} c ON true
LEFT JOIN LATERAL {_newest_seen("reaction_counts WHERE conversation_id = i.id", "rev", "rev")} r ON true
LEFT JOIN LATERAL {_newest_seen("members WHERE conversation_id = i.id", "rev", "rev")} p ON true
"""
# That everyone began anew there no row says but the conversation's own.
_BEGUN_ANEW = f"""
SELECT id FROM (SELECT id, anew_xid AS moved_xid FROM nestrel.conversations WHERE id = ANY($1::text::uuid[])) c
WHERE {_STARTS_SEEN}
"""
SHALLOW = 64
"""So far one looks first: where more has moved since, that is a conversation to be read alone, and to look further
costs no more than what is read there."""


async def found(
    connection: Connection, since: AllPosition, states: Mapping[UUID, State], depth: int
) -> dict[UUID, ChangePosition]:
    """A place at or before what a snapshot saw of each conversation, looking through its newest `depth` rows of each
    kind; nothing of those where more messages have come since. One of which all messages were looked at, and none had
    been seen, had none by then."""
    if not states:
        return {}
    ids, result = list(states), dict[UUID, ChangePosition]()
    for n, rev, seq in await fetch(connection, _STARTS, array(ids), since.snapshot, depth):
        state = states[ids[n - 1]]
        if seq is not None or state.head - state.floor < depth:
            result[ids[n - 1]] = ChangePosition(rev or 0, seq or 0, rev or 0, state.epoch)
    outdated = [id_ for id_, at in result.items() if states[id_].begun.outdated(at)]
    if outdated:
        for (id_,) in await fetch(connection, _BEGUN_ANEW, array(outdated), since.snapshot):
            anew = states[id_].begun.anew
            result[id_] = replace(result[id_], rev=anew, member_rev=anew)
    return result
