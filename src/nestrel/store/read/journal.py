"""Recent moves in the whole store: the newest part of the journal."""

from __future__ import annotations

from dataclasses import dataclass, field
from uuid import UUID

from nestrel.core.cursors import AllPosition
from nestrel.store import snapshots
from nestrel.store.histories import NewEpoch
from nestrel.store.native import Connection, fetch

UNSEEN = """{0} >= (SELECT pg_snapshot_xmin({1}::text::pg_snapshot))
      AND NOT pg_visible_in_snapshot({0}, (SELECT {1}::text::pg_snapshot))
      AND {0} < (SELECT pg_snapshot_xmax(pg_current_snapshot()))"""
"""SQL for what a snapshot has not seen: a column with a transaction, and the parameter with the snapshot. What carries
a transaction that this history has not come to yet was there before it, as after a dump was loaded."""

_ROWS = 5_000
"""Rows of the journal that are read at one time, each one statement's; who is further behind begins anew."""

_TAIL = f"""
SELECT {snapshots.COLUMNS}, t.xid, j.xid, j.ids, j.revs, j.who
FROM nestrel.journal_trimmed t LEFT JOIN LATERAL (
    (SELECT xid, ids, revs, NULL AS who FROM nestrel.journal WHERE {UNSEEN.format("xid", "$1")} ORDER BY xid LIMIT $2)
    UNION ALL
    (SELECT joined_xid, ARRAY[conversation_id], NULL, user_id FROM nestrel.members
     WHERE $3 AND left_at IS NULL AND {UNSEEN.format("joined_xid", "$1")} ORDER BY joined_xid LIMIT $2)
) j ON true
"""


@dataclass(slots=True)
class Tail:
    """What the snapshot `now` sees and an earlier one did not: each conversation that `moved`, with the transaction
    and the `rev`, in the order of transactions; and each user who `joined` one. Of transactions up to `trimmed` nothing
    is kept any more. One that is not `whole` lacks some of it, as it was too much."""

    now: AllPosition
    trimmed: int
    moved: list[tuple[int, UUID, int]] = field(default_factory=list)
    joined: list[tuple[int, UUID, str]] = field(default_factory=list)
    whole: bool = True


async def tail(connection: Connection, since: AllPosition | None, *, joined: bool = True) -> Tail:
    """Read the journal from an earlier snapshot on, or all of it; who joined only after a snapshot, and where asked.

    Raises:
        NewEpoch: the database has another history than this process knows.
    """
    snapshot = since.snapshot if since is not None else "1:1:"
    found = await fetch(connection, _TAIL, snapshot, _ROWS, joined and since is not None)
    now = snapshots.at(connection, *found[0][:3])
    if since is not None and connection.history.known.set_back(since, now):
        raise NewEpoch(set_back=now.epoch)
    result = Tail(now, found[0][3])
    rows = 0
    for _, _, _, _, xid, ids, revs, who in found:
        if who is not None:
            result.joined.append((xid, ids[0], who))
        elif xid is not None:
            rows += 1
            result.moved += [(xid, id_, rev) for id_, rev in zip(ids, revs, strict=True)]
    result.whole = max(rows, len(result.joined)) < _ROWS
    return result
