"""All of a member's conversations at once: what moved since a snapshot, what has come and what has gone."""

from __future__ import annotations

from collections import deque
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from uuid import UUID

from nestrel.core import limits
from nestrel.core.catching_up import looks, most_rows, taken
from nestrel.core.cursors import AllPosition, ChangePosition, ResyncPosition
from nestrel.store import epochs, snapshots
from nestrel.store.native import Connection, array, fetch
from nestrel.store.read import catch_up, starts, together
from nestrel.store.read import changes as feed
from nestrel.store.read.changes import Changes, State
from nestrel.store.read.journal import UNSEEN
from nestrel.store.read.together import ReadRequest

_MINE_BEHIND = "ARRAY(SELECT conversation_id FROM nestrel.members WHERE user_id = $1 AND conversation_id > $3::uuid)"
_RESYNC_THESE = "$3::uuid[]"


def _moved_of(ids: str) -> str:
    """Which of `ids` moved, and are the member's. As an array: one walk over the key of conversations, whatever the
    planner thinks of either table. Who has gone is told so once; who came has no position."""
    return f"""
WITH moved AS MATERIALIZED (
    SELECT id, closed_at IS NOT NULL AS closed FROM nestrel.conversations
    WHERE id = ANY({ids}) AND {UNSEEN.format("moved_xid", "$2")}
)
SELECT {snapshots.COLUMNS}, x.id, x.gone, x.joined
FROM (SELECT) one LEFT JOIN (
    SELECT moved.id, ({UNSEEN.format("m.joined_xid", "$2")}) AS joined,
           CASE WHEN m.left_at IS NOT NULL THEN m.left_reason WHEN moved.closed THEN 'closed' END AS gone
    FROM moved
    CROSS JOIN LATERAL (SELECT joined_xid, moved_xid, left_at, left_reason FROM nestrel.members
        WHERE conversation_id = moved.id AND user_id = $1 LIMIT 1) m
    WHERE m.left_at IS NULL OR ({UNSEEN.format("m.moved_xid", "$2")})
    ORDER BY moved.id LIMIT $4
) x ON true
ORDER BY x.id
"""


_MOVED = _moved_of(_MINE_BEHIND)
_MOVED_OF_THESE = _moved_of(_RESYNC_THESE)
_RESYNC_MINE = """
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

_STILL_OF = """
SELECT i.n FROM unnest($1::text[], $2::text::uuid[]) WITH ORDINALITY AS i (user_id, id, n)
CROSS JOIN LATERAL (SELECT 1 FROM nestrel.members
    WHERE conversation_id = i.id AND user_id = i.user_id AND left_at IS NULL LIMIT 1) m
CROSS JOIN LATERAL (SELECT 1 FROM nestrel.conversations WHERE id = i.id AND closed_at IS NULL LIMIT 1) c
"""
# Of many users at once: arrays are read in a fraction of the time of as many rows.
_MEMBERSHIPS = """
SELECT u.n, x.* FROM unnest($1::text[], $2::text::xid8[]) WITH ORDINALITY AS u (user_id, since, n)
CROSS JOIN LATERAL (
    SELECT array_agg(id) FILTER (WHERE why IS NULL), array_agg(id) FILTER (WHERE why IS NULL AND joined >= u.since),
           array_agg(joined::text) FILTER (WHERE why IS NULL AND joined >= u.since),
           array_agg(id) FILTER (WHERE why IS NOT NULL AND moved >= u.since),
           array_agg(why) FILTER (WHERE why IS NOT NULL AND moved >= u.since),
           array_agg(moved::text) FILTER (WHERE why IS NOT NULL AND moved >= u.since)
    FROM (SELECT m.conversation_id AS id, m.joined_xid AS joined,
                 CASE WHEN m.left_at IS NOT NULL THEN m.left_reason WHEN c.closed THEN 'closed' END AS why,
                 CASE WHEN m.left_at IS NOT NULL THEN m.moved_xid ELSE c.moved_xid END AS moved
          FROM (SELECT conversation_id, joined_xid, moved_xid, left_at, left_reason FROM nestrel.members
                WHERE user_id = u.user_id AND (left_at IS NULL OR moved_xid >= u.since) ORDER BY conversation_id) m
          CROSS JOIN LATERAL (SELECT closed_at IS NOT NULL AS closed, moved_xid FROM nestrel.conversations
              WHERE id = m.conversation_id LIMIT 1) c) one
) x ORDER BY u.n
"""

MANY = 1_000
"""Conversations that one answer goes through at most."""
NOTHING = UUID(int=0)


@dataclass(frozen=True, slots=True)
class Pending:
    """A conversation of the member's that moved. `start` is where the member stood; None for one that the member has
    `joined` since, which begins with its newest page, and for one where that has still to be found. `gone` is why it is
    theirs no more."""

    id: UUID
    start: ChangePosition | None = None
    joined: bool = False
    gone: str | None = None


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
    *,
    after: UUID = NOTHING,
    these: Sequence[UUID] | None = None,
) -> tuple[AllPosition, list[Pending]]:
    """The present snapshot, and the member's conversations that changed since an earlier one, by id: one indexed query.
    `these` are all that moved in the whole store, where that is known and little: no others are looked at."""
    if these is None:
        found = await fetch(connection, _MOVED, user_id, since.snapshot, after, MANY)
    else:
        behind = [id_ for id_ in these if id_ > after]
        found = await fetch(connection, _MOVED_OF_THESE, user_id, since.snapshot, behind, MANY)
    now = snapshots.at(connection, *found[0][:3])
    return now, [Pending(id_, None, joined, gone) for *_, id_, gone, joined in found if id_ is not None]


async def mine(connection: Connection, user_id: str, *, after: UUID = NOTHING, limit: int = MANY) -> list[Pending]:
    """All of the member's conversations by id, each as if just joined."""
    found = await fetch(connection, _RESYNC_MINE, user_id, after, limit)
    return [Pending(row[0], joined=True) for row in found]


Membership = tuple[list[UUID], list[tuple[UUID, int]], list[tuple[UUID, str, int]]]
"""The conversations of a member; those joined, and those ended with the reason, each with the transaction."""


async def memberships(connection: Connection, asked: Sequence[tuple[str, int]]) -> list[Membership]:
    """The conversations of some users; of what was joined or has ended, what did so in a transaction of theirs or
    behind it."""
    found = await fetch(connection, _MEMBERSHIPS, [one[0] for one in asked], array([one[1] for one in asked]))
    return [
        (
            ids or [],
            [(id_, int(xid)) for id_, xid in zip(joined or (), joined_in or (), strict=True)],
            [(id_, why, int(xid)) for id_, why, xid in zip(ended or (), reasons or (), ended_in or (), strict=True)],
        )
        for _, ids, joined, joined_in, ended, reasons, ended_in in found
    ]


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
        if recent is None:
            now, pending = await moved(connection, user_id, since, after=after)
        else:
            now, these = recent
            if these:
                _, pending = await moved(connection, user_id, since, after=after, these=these)
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
    found = dict(await fetch(connection, _RESYNC_MINE, user_id, NOTHING, MANY * 10))
    missing = [id_ for id_ in held if id_ not in found]
    # Of a member with more conversations than are listed here, what is not in the list is not gone for that.
    theirs = await still(connection, user_id, missing)
    pending = [Pending(id_, held[id_]) if id_ in theirs else Pending(id_, gone="gone") for id_ in missing]
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
    """Read change sets, many together, until there are enough rows; returns how far it came."""
    size = limits.RESYNC_BYTES
    waiting, parts = deque[_Waiting](), looks(len(pending))
    while not answer.more:
        if not waiting:
            low, high = next(parts, (0, 0))
            waiting += await _looked_at(connection, pending[low:high], at, most)
            if not waiting:
                break
        if rows <= 0 or size <= 0:
            answer.more = True
            break
        group = await _group(connection, waiting, at, rows, most)
        asked = {one.pending.id: one.asked for one in group if one.asked is not None}
        found = await together.read(connection, asked, rows, size=size if len(asked) > 1 else together.SIZE)
        for one in group:
            id_ = one.pending.id
            if one.asked is not None and id_ not in found:
                answer.more = True
                break
            at = replace(at, after=id_, within=None)
            rows -= 1
            if one.asked is None:
                answer.gone.append(id_)
                continue
            changes = found[id_]
            answer.items.append(changes)
            if one.pending.joined:
                answer.joined.append(id_)
            rows -= len(changes.messages) + len(changes.members)
            size -= len(changes.packed())
            if changes.more:
                answer.more = True
                at = replace(at, within=changes.end)
                break
    await _drop_lost(connection, user_id, answer)
    return at


@dataclass(slots=True)
class _Waiting:
    """One that is still to be read: without a `state` it is gone. It is `asked` once it is known where its reader
    stood."""

    pending: Pending
    state: State | None
    asked: ReadRequest | None = None


async def _looked_at(
    connection: Connection, pending: Sequence[Pending], at: ResyncPosition, most: int
) -> list[_Waiting]:
    """Where some conversations stand, and where their reader stood in those that have moved by little."""
    ids = [one.id for one in pending if one.gone is None]
    states = await feed.states(connection, ids) if ids else {}
    unknown = {one.id: states[one.id] for one in pending if _has_to_be_found(one) and one.id in states}
    places = await starts.found(connection, at.since, unknown, starts.SHALLOW) if at.since is not None else {}
    result = []
    for one in pending:
        state = states.get(one.id) if one.gone is None else None
        waiting = _Waiting(one, state if state is not None and not state.closed else None)
        start = one.start or places.get(one.id)
        if waiting.state is not None and (start is not None or not _has_to_be_found(one)):
            waiting.asked = await catch_up.from_start(connection, one.id, start, waiting.state, most=most)
        result.append(waiting)
    return result


def _has_to_be_found(one: Pending) -> bool:
    return one.gone is None and one.start is None and not one.joined


async def _group(
    connection: Connection, waiting: deque[_Waiting], at: ResyncPosition, rows: int, most: int
) -> list[_Waiting]:
    """The next that are read together. One of which it is not known yet where its reader stood is the first then."""
    first = waiting[0]
    if first.state is not None and first.asked is None:
        assert at.since is not None
        id_ = first.pending.id
        start = (await starts.found(connection, at.since, {id_: first.state}, most + 1)).get(id_)
        first.asked = await catch_up.from_start(connection, id_, start, first.state, most=most)
    needs = []
    for one in waiting:
        if one.state is not None and one.asked is None:
            break
        needs.append(most_rows(one.asked.start, one.asked.state.counters) if one.asked is not None else 0)
    return [waiting.popleft() for _ in range(taken(needs, rows))]


async def begun(connection: Connection, since: AllPosition, pending: Sequence[Pending], most: int) -> list[Pending]:
    """The same, each with where its reader stood; without that where more than `most` messages have come since."""
    ids = [one.id for one in pending if _has_to_be_found(one)]
    states = await feed.states(connection, ids) if ids else {}
    places = await starts.found(connection, since, states, starts.SHALLOW)
    deep = {id_: state for id_, state in states.items() if id_ not in places}
    places |= await starts.found(connection, since, deep, most + 1)
    return [replace(one, start=places.get(one.id)) if _has_to_be_found(one) else one for one in pending]


async def still(connection: Connection, user_id: str, ids: Sequence[UUID]) -> set[UUID]:
    """Those of some conversations that are the member's now."""
    return {row[0] for row in await fetch(connection, _STILL, user_id, ids)} if ids else set()


async def still_of(connection: Connection, asked: Sequence[tuple[str, Sequence[UUID]]]) -> list[set[UUID]]:
    """The same of several users, each with conversations of their own."""
    pairs = [(n, user_id, id_) for n, (user_id, ids) in enumerate(asked) for id_ in ids]
    found = await fetch(connection, _STILL_OF, [one[1] for one in pairs], array([one[2] for one in pairs]))
    result: list[set[UUID]] = [set() for _ in asked]
    for (at,) in found:
        n, _, id_ = pairs[at - 1]
        result[n].add(id_)
    return result


async def _drop_lost(connection: Connection, user_id: str, answer: Resync) -> None:
    """Membership is looked at after the reading: whoever is a member then was one when it was read."""
    if not answer.items:
        return
    ids = [item.conversation_id for item in answer.items]
    kept = await still(connection, user_id, ids)
    lost = [id_ for id_ in ids if id_ not in kept]
    answer.items = [item for item in answer.items if item.conversation_id in kept]
    answer.joined = [id_ for id_ in answer.joined if id_ in kept]
    answer.gone += lost
