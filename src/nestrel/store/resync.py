"""All of a member's conversations at once: what moved since a snapshot, what has come and what has gone."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import AllPosition, ChangePosition, ResyncPosition
from nestrel.store import changes as feed
from nestrel.store import snapshots
from nestrel.store.changes import Changes
from nestrel.store.events import Moved
from nestrel.store.native import Connection, fetch

_UNSEEN = "{0} >= pg_snapshot_xmin($2::text::pg_snapshot) AND NOT pg_visible_in_snapshot({0}, $2::text::pg_snapshot)"

# The member's ids as an array: one walk over the key of conversations, whatever the planner thinks of either table.
# Who has gone is told so once; who came has no position; for the others the function finds it.
_MOVED = f"""
WITH moved AS MATERIALIZED (
    SELECT id, closed_at IS NOT NULL AS closed FROM conversations
    WHERE id = ANY(ARRAY(SELECT conversation_id FROM members WHERE user_id = $1 AND conversation_id > $3))
      AND {_UNSEEN.format("moved_xid")}
)
SELECT CAST(pg_current_snapshot() AS text), x.id, x.gone, x.joined, s.rev, s.seq, s.beyond
FROM (SELECT) one LEFT JOIN (
    SELECT moved.id, NOT pg_visible_in_snapshot(m.joined_xid, $2::text::pg_snapshot) AS joined,
           CASE WHEN m.left_at IS NOT NULL THEN m.left_reason WHEN moved.closed THEN 'closed' END AS gone
    FROM moved
    CROSS JOIN LATERAL (SELECT joined_xid, moved_xid, left_at, left_reason FROM members
        WHERE conversation_id = moved.id AND user_id = $1 LIMIT 1) m
    WHERE m.left_at IS NULL OR ({_UNSEEN.format("m.moved_xid")})
    ORDER BY moved.id LIMIT $4
) x ON true
LEFT JOIN LATERAL (
    SELECT * FROM nestrel_seen_v1(x.id, $2::text::pg_snapshot, $5) WHERE x.gone IS NULL AND NOT x.joined
) s ON true
ORDER BY x.id
"""
_MINE = """
SELECT m.conversation_id, c.rev
FROM (SELECT conversation_id FROM members WHERE user_id = $1 AND conversation_id > $2 AND left_at IS NULL
      ORDER BY conversation_id) m
CROSS JOIN LATERAL (SELECT rev FROM conversations WHERE id = m.conversation_id AND closed_at IS NULL LIMIT 1) c
LIMIT $3
"""
_STILL = """
SELECT i.id FROM unnest($2::uuid[]) AS i (id)
CROSS JOIN LATERAL (SELECT 1 FROM members WHERE conversation_id = i.id AND user_id = $1 AND left_at IS NULL LIMIT 1) m
CROSS JOIN LATERAL (SELECT 1 FROM conversations WHERE id = i.id AND closed_at IS NULL LIMIT 1) c
"""
_STIRRED = f"""
SELECT id, rev, NULL FROM conversations WHERE id = ANY($1::uuid[]) AND {_UNSEEN.format("moved_xid")}
UNION ALL
SELECT conversation_id, 0, user_id FROM members WHERE left_at IS NULL AND {_UNSEEN.format("joined_xid")}
"""

MANY = 1_000
"""Conversations that one answer goes through at most."""
NOTHING = UUID(int=0)
_BEGINNING = 1
"""The transaction before all others: a snapshot at it has seen nothing."""


@dataclass(frozen=True, slots=True)
class Place:
    """A conversation of the member's that moved: `start` is where the member stood, None for one that begins with its
    newest page, because the member has `joined` since or was away for too much. `gone` is why it is theirs no more."""

    id: UUID
    start: ChangePosition | None = None
    joined: bool = False
    gone: str | None = None


@dataclass(slots=True)
class Resync:
    """One answer. `whole`: it is part of a sync from nothing, and what no `joined` names is not the member's."""

    cursor: AllPosition | ResyncPosition
    whole: bool
    more: bool = False
    items: list[Changes] = field(default_factory=list)
    joined: list[UUID] = field(default_factory=list)
    gone: list[UUID] = field(default_factory=list)


async def moved(
    connection: Connection, user_id: str, since: AllPosition, most: int, *, after: UUID = NOTHING, limit: int = MANY
) -> tuple[AllPosition, list[Place]]:
    """The present snapshot, and the member's conversations that changed since an earlier one, by id: one indexed
    query. Of one with more than `most` changed rows the newest page is wanted instead."""
    found = await fetch(connection, _MOVED, user_id, since.snapshot, after, limit, most)
    now = await snapshots.at(connection, found[0][0])
    return now, [_place(*row[1:]) for row in found if row[1] is not None]


def _place(id_: UUID, gone: str | None, joined: bool, rev: int | None, seq: int, beyond: bool | None) -> Place:
    start = None if rev is None or beyond else ChangePosition(rev, seq, rev)
    return Place(id_, start, joined, gone)


async def mine(connection: Connection, user_id: str, *, after: UUID = NOTHING, limit: int = MANY) -> list[Place]:
    """All of the member's conversations by id, each as if just joined."""
    found = await fetch(connection, _MINE, user_id, after, limit)
    return [Place(row[0], joined=True) for row in found]


async def stirred(
    connection: Connection, followed: Sequence[UUID], since: AllPosition
) -> tuple[AllPosition, list[Moved]]:
    """A new snapshot, and what of `followed` moved since the last one, with everyone who has joined anything: what a
    process must have handed on before it can say that all up to the new snapshot has been sent."""
    now = await snapshots.now(connection)
    found = await fetch(connection, _STIRRED, followed, since.snapshot)
    return now, [Moved(row[0], row[1], () if row[2] is None else (row[2],)) for row in found]


async def from_cursor(
    connection: Connection, user_id: str, cursor: AllPosition | ResyncPosition | None, rows: int, most: int
) -> Resync:
    """Bring a member from an all cursor to the present, or from nothing; at most about `rows` rows. An answer with
    `more` goes on where its own cursor says."""
    since, after = cursor, NOTHING
    if isinstance(cursor, ResyncPosition):
        since, after = cursor.since, cursor.after
    places: list[Place] = []
    if since is None:
        now = await snapshots.now(connection)
    else:
        assert isinstance(since, AllPosition)
        now, places = await moved(connection, user_id, since, most, after=after)
    at = cursor if isinstance(cursor, ResyncPosition) else ResyncPosition(since, now, NOTHING)
    if not all(snapshots.knows(now, one) for one in (at.since, at.upto) if one is not None):
        at = ResyncPosition(None, now, NOTHING)
    if at.since is None:
        places = await mine(connection, user_id, after=at.after)
    full = len(places) == MANY
    if at.within is not None:
        places.insert(0, Place(at.after, at.within))
    answer = Resync(at.upto, at.since is None)
    at = await _read(connection, user_id, answer, places, at, rows, most)
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
    places = [Place(id_, held[id_]) if id_ in still else Place(id_, gone="gone") for id_ in missing]
    for id_, rev in found.items():
        start = held.get(id_)
        if start is None:
            places.append(Place(id_, joined=True))
        elif start != ChangePosition(rev, start.seq, rev):
            places.append(Place(id_, start))
    answer = Resync(now, whole=False)
    await _read(connection, user_id, answer, places, ResyncPosition(None, now, NOTHING), rows, most)
    if answer.more:
        answer.cursor = replace(now, xmin=_BEGINNING, xmax=_BEGINNING, running=())
    return answer


async def _read(
    connection: Connection,
    user_id: str,
    answer: Resync,
    places: Sequence[Place],
    at: ResyncPosition,
    rows: int,
    most: int,
) -> ResyncPosition:
    """Read the change set of each place until there are enough rows; returns how far it came."""
    for place in places:
        if rows <= 0:
            answer.more = True
            break
        rows -= 1
        at = replace(at, after=place.id, within=None)
        if place.gone is not None:
            answer.gone.append(place.id)
            continue
        if place.start is None:
            found = await feed.newest(connection, place.id, limits.PAGE_DEFAULT, rows=max(rows, limits.PAGE_DEFAULT))
        else:
            found = await feed.since(connection, place.id, place.start, max(rows, 1), most=most)
        if found is None or found.closed:
            answer.gone.append(place.id)
            continue
        answer.items.append(found)
        if place.joined:
            answer.joined.append(place.id)
        rows -= len(found.messages) + len(found.members)
        if found.more:
            answer.more = True
            at = replace(at, within=found.end)
            break
    await _drop_lost(connection, user_id, answer)
    return at


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
