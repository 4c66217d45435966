"""All of a member's conversations at once: what moved since a snapshot, what has come and what has gone."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import islice
from typing import Any
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import AllPosition, ChangePosition, ResyncPosition
from nestrel.store import epochs, snapshots
from nestrel.store.native import Connection, fetch
from nestrel.store.read import changes as feed
from nestrel.store.read.changes import Changes
from nestrel.store.read.journal import UNSEEN

_MINE_BEHIND = "ARRAY(SELECT conversation_id FROM nestrel.members WHERE user_id = $1 AND conversation_id > $3::uuid)"
_THESE = "$3::uuid[]"


def _moved_of(ids: str) -> str:
    """Which of `ids` moved, and are the member's. As an array: one walk over the key of conversations, whatever the
    planner thinks of either table. Who has gone is told so once; who came has no position; for the others the
    function finds it."""
    return f"""
WITH moved AS MATERIALIZED (
    SELECT id, closed_at IS NOT NULL AS closed FROM nestrel.conversations
    WHERE id = ANY({ids}) AND {UNSEEN.format("moved_xid", "$2")}
)
SELECT {snapshots.COLUMNS}, x.id, x.gone, x.joined, s.rev, s.seq, s.beyond
FROM (SELECT) one LEFT JOIN (
    SELECT moved.id, row_number() OVER (ORDER BY moved.id) AS n, ({UNSEEN.format("m.joined_xid", "$2")}) AS joined,
           CASE WHEN m.left_at IS NOT NULL THEN m.left_reason WHEN moved.closed THEN 'closed' END AS gone
    FROM moved
    CROSS JOIN LATERAL (SELECT joined_xid, moved_xid, left_at, left_reason FROM nestrel.members
        WHERE conversation_id = moved.id AND user_id = $1 LIMIT 1) m
    WHERE m.left_at IS NULL OR ({UNSEEN.format("m.moved_xid", "$2")})
    ORDER BY moved.id LIMIT $4
) x ON true
LEFT JOIN LATERAL (
    SELECT * FROM nestrel.seen_v1(x.id, $2::text::pg_snapshot, $5) WHERE x.gone IS NULL AND NOT x.joined AND x.n <= $6
) s ON true
ORDER BY x.id
"""


_MOVED = _moved_of(_MINE_BEHIND)
_MOVED_OF_THESE = _moved_of(_THESE)
_STARTS = """
SELECT s.rev, s.seq, s.beyond FROM unnest($1::uuid[]) WITH ORDINALITY AS i (id, n)
CROSS JOIN LATERAL (SELECT * FROM nestrel.seen_v1(i.id, $2::text::pg_snapshot, $3)) s ORDER BY i.n
"""
_MINE = """
SELECT m.conversation_id, c.rev
FROM (SELECT conversation_id FROM nestrel.members WHERE user_id = $1 AND conversation_id > $2 AND left_at IS NULL
      ORDER BY conversation_id) m
CROSS JOIN LATERAL (SELECT rev FROM nestrel.conversations WHERE id = m.conversation_id AND closed_at IS NULL LIMIT 1) c
LIMIT $3
"""
_STILL = """
SELECT i.id FROM unnest($2::uuid[]) AS i (id)
CROSS JOIN LATERAL (SELECT 1 FROM nestrel.members WHERE conversation_id = i.id AND user_id = $1 AND left_at IS NULL
LIMIT 1) m
CROSS JOIN LATERAL (SELECT 1 FROM nestrel.conversations WHERE id = i.id AND closed_at IS NULL LIMIT 1) c
"""

_AT_FIRST = 4
"""Conversations that are given their start with the first question; a long absence may need no more of them for one
answer."""
_MORE = 4
MANY = 1_000
"""Conversations that one answer goes through at most."""
NOTHING = UUID(int=0)


@dataclass(frozen=True, slots=True)
class Pending:
    """A conversation of the member's that moved: `start` is where the member stood, None for one that begins with its
    newest page, because the member has `joined` since or was away for too much. `gone` is why it is theirs no more.
    One that is not `started` has still to be given its start: that costs what has changed in it."""

    id: UUID
    start: ChangePosition | None = None
    joined: bool = False
    gone: str | None = None
    started: bool = True


@dataclass(slots=True)
class Resync:
    """One answer. `from_nothing`: it is part of a sync from nothing, and what no `joined` names is not the member's;
    `begins`: it is the first of its parts. `rewound`: the cursor goes on, and was made before the database was restored
    or failed over, so that what its holder was sent after it may be lost."""

    cursor: AllPosition | ResyncPosition
    from_nothing: bool
    begins: bool = False
    rewound: bool = False
    more: bool = False
    items: list[Changes] = field(default_factory=list)
    joined: list[UUID] = field(default_factory=list)
    gone: list[UUID] = field(default_factory=list)


async def moved(
    connection: Connection,
    user_id: str,
    since: AllPosition,
    most: int,
    *,
    after: UUID = NOTHING,
    started: int = MANY,
    these: Sequence[UUID] | None = None,
) -> tuple[AllPosition, list[Pending]]:
    """The present snapshot, and the member's conversations that changed since an earlier one, by id, the first of them
    `started`: one indexed query. Of one with more than `most` changed rows the newest page is wanted instead. `these`
    are all that moved in the whole store, where that is known and little: no others are looked at."""
    if these is None:
        found = await fetch(connection, _MOVED, user_id, since.snapshot, after, MANY, most, started)
    else:
        behind = [id_ for id_ in these if id_ > after]
        found = await fetch(connection, _MOVED_OF_THESE, user_id, since.snapshot, behind, MANY, most, started)
    now = snapshots.at(connection, *found[0][:3])
    return now, [_pending(now.epoch, *row[3:]) for row in found if row[3] is not None]


def _pending(
    epoch: int, id_: UUID, gone: str | None, joined: bool, rev: int | None, seq: int, beyond: bool | None
) -> Pending:
    if rev is None and gone is None and not joined:
        return Pending(id_, started=False)
    start = None if rev is None or beyond else ChangePosition(rev, seq, rev, epoch)
    return Pending(id_, start, joined, gone)


async def mine(connection: Connection, user_id: str, *, after: UUID = NOTHING, limit: int = MANY) -> list[Pending]:
    """All of the member's conversations by id, each as if just joined."""
    found = await fetch(connection, _MINE, user_id, after, limit)
    return [Pending(row[0], joined=True) for row in found]


async def from_cursor(
    connection: Connection,
    user_id: str,
    cursor: AllPosition | ResyncPosition | None,
    rows: int,
    most: int,
    recent: tuple[AllPosition, Sequence[UUID]] | None = None,
) -> Resync:
    """Bring a member from an all cursor to the present, or from nothing; at most about `rows` rows. An answer with
    `more` goes on where its own cursor says. `recent` is a snapshot of a moment ago, and what moved in the whole store
    up to it since the cursor's."""
    since, after = cursor, NOTHING
    if isinstance(cursor, ResyncPosition):
        since, after = cursor.since, cursor.after
    pending: list[Pending] = []
    if since is None:
        now = await snapshots.now(connection)
    else:
        assert isinstance(since, AllPosition)
        within = isinstance(cursor, ResyncPosition) and cursor.within is not None
        started = 0 if within else _AT_FIRST
        if recent is None:
            now, pending = await moved(connection, user_id, since, most, after=after, started=started)
        else:
            now, these = recent
            if these:
                _, pending = await moved(connection, user_id, since, most, after=after, started=started, these=these)
    at = cursor if isinstance(cursor, ResyncPosition) else ResyncPosition(since, now, NOTHING)
    known = [one for one in (at.since, at.upto) if one is not None]
    lost = not all(epochs.goes_on(connection, one, now) for one in known)
    # What a sync from nothing has brought so far was read after its own cursor: it begins again with another history.
    if lost or (at.since is None and at.upto.epoch != now.epoch):
        at = ResyncPosition(None, now, NOTHING)
    if at.since is None:
        pending = await mine(connection, user_id, after=at.after)
    full = len(pending) == MANY
    if at.within is not None:
        pending.insert(0, Pending(at.after, at.within))
    answer = Resync(at.upto, at.since is None, begins=at.after == NOTHING)
    answer.rewound = at.since is not None and at.since.epoch != now.epoch
    at = await _read(connection, user_id, answer, pending, at, rows, most)
    if answer.more or full:
        answer.more, answer.cursor = True, at
    else:
        # The end of several parts stands where the first of them did: what moved since is asked for once more.
        answer.more, answer.cursor = isinstance(cursor, ResyncPosition), at.upto
    return answer


async def from_map(
    connection: Connection, user_id: str, held: Mapping[UUID, ChangePosition], rows: int, most: int
) -> Resync:
    """Bring a member from a cursor for each conversation. With `more`, the same is to be asked again with the cursors
    that came; the answer's own cursor then begins at nothing."""
    now = await snapshots.now(connection)
    found = dict(await fetch(connection, _MINE, user_id, NOTHING, MANY * 10))
    missing = [id_ for id_ in held if id_ not in found]
    # Of a member with more conversations than are listed here, what is not in the list is not gone for that.
    still = {row[0] for row in await fetch(connection, _STILL, user_id, missing)} if missing else set()
    pending = [Pending(id_, held[id_]) if id_ in still else Pending(id_, gone="gone") for id_ in missing]
    for id_, rev in found.items():
        start = held.get(id_)
        if start is None:
            pending.append(Pending(id_, joined=True))
        elif start != ChangePosition(rev, start.seq, rev, now.epoch):
            pending.append(Pending(id_, start))
    answer = Resync(now, from_nothing=False)
    await _read(connection, user_id, answer, pending, ResyncPosition(None, now, NOTHING), rows, most)
    if answer.more:
        answer.cursor = AllPosition.beginning(now.epoch)
    return answer


async def _read(
    connection: Connection,
    user_id: str,
    answer: Resync,
    pending: Sequence[Pending],
    at: ResyncPosition,
    rows: int,
    most: int,
) -> ResyncPosition:
    """Read the change set of each conversation until there are enough rows; returns how far it came."""
    size = 0
    waiting, some = deque(pending), _AT_FIRST
    while waiting:
        if not waiting[0].started and rows > 0:
            assert at.since is not None
            some *= _MORE
            await _give_starts(connection, waiting, some, at.since, at.upto.epoch, most)
        one = waiting.popleft()
        if rows <= 0 or size > limits.RESYNC_BYTES:
            answer.more = True
            break
        rows -= 1
        at = replace(at, after=one.id, within=None)
        if one.gone is not None:
            answer.gone.append(one.id)
            continue
        if one.start is None:
            found = await feed.newest(connection, one.id, limits.PAGE_DEFAULT, rows=max(rows, limits.PAGE_DEFAULT))
        else:
            found = await feed.since(connection, one.id, one.start, max(rows, 1), most=most)
        if found is None or found.closed:
            answer.gone.append(one.id)
            continue
        answer.items.append(found)
        if one.joined:
            answer.joined.append(one.id)
        rows -= len(found.messages) + len(found.members)
        size += len(found.packed())
        if found.more:
            answer.more = True
            at = replace(at, within=found.end)
            break
    await _drop_lost(connection, user_id, answer)
    return at


async def _give_starts(
    connection: Connection, waiting: deque[Pending], some: int, since: AllPosition, epoch: int, most: int
) -> None:
    """Give a start to the first of those that wait for it: as many as there may be room for, and not all that moved."""
    wanted = [one for one in islice(waiting, some) if not one.started]
    found = await fetch(connection, _STARTS, [one.id for one in wanted], since.snapshot, most)
    starts = {one.id: _pending(epoch, one.id, None, False, *row) for one, row in zip(wanted, found, strict=True)}
    for n in range(min(some, len(waiting))):
        waiting[n] = starts.get(waiting[n].id, waiting[n])


async def _drop_lost(connection: Connection, user_id: str, answer: Resync) -> None:
    """Membership is looked at after the reading: whoever is a member then was one when it was read."""
    if not answer.items:
        return
    ids = [item.conversation_id for item in answer.items]
    still: set[Any] = {row[0] for row in await fetch(connection, _STILL, user_id, ids)}
    lost = [id_ for id_ in ids if id_ not in still]
    answer.items = [item for item in answer.items if item.conversation_id in still]
    answer.joined = [id_ for id_ in answer.joined if id_ in still]
    answer.gone += lost
