"""The search index: words of blocks of 256 messages, brought to date behind the write path, in bounded steps, by as
many processes as like."""

from __future__ import annotations

import asyncio
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID

from nestrel.core.words import pieces
from nestrel.store.database import Database
from nestrel.store.lexemes import BLOCK, lexeme, place_lexeme
from nestrel.store.native import Connection, array, execute, fetch, texts

MESSAGES = 1_024
"""New messages that one step takes in at most, about: 10 ms of work, in which the process does nothing else."""
_CHANGED = 1_000
"""Changed messages of one conversation that one step takes in."""
STALE_SECONDS = 10
"""After so long a block of which something has gone is made anew; in between, more of it may go. One in parts is made
whole after a minute."""
_STALE = 4
_SLICE = 16

_INDEXING_PLACES = """
INSERT INTO nestrel.search_places (conversation_id, rev, head, floor)
SELECT id, 0, 0, 1 FROM unnest($1::text::uuid[]) AS i (id) ORDER BY id ON CONFLICT DO NOTHING
"""
# Another process is at those that are held: it has heard of them as well.
_INDEXING_LOCK = """
SELECT conversation_id, rev, head, floor FROM nestrel.search_places
WHERE conversation_id = ANY($1::text::uuid[]) ORDER BY conversation_id FOR UPDATE SKIP LOCKED
"""
_STAND = """
SELECT id, rev, head, floor, closed_at IS NOT NULL FROM nestrel.conversations WHERE id = ANY($1::text::uuid[])
"""
_INDEXING_NEW = f"""
SELECT i.id, m.seq, m.body, m.created_at
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[]) AS i (id, low, high)
CROSS JOIN LATERAL (SELECT seq, body, created_at FROM nestrel.messages
    WHERE conversation_id = i.id AND seq BETWEEN i.low AND i.high ORDER BY seq LIMIT {MESSAGES}) m
"""
_ALTERED = f"""
SELECT i.id, m.seq, m.rev, m.body, m.created_at
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::bigint[]) AS i (id, low, high, head)
CROSS JOIN LATERAL (SELECT seq, rev, body, created_at FROM nestrel.messages
    WHERE conversation_id = i.id AND changed AND rev > i.low AND rev <= i.high AND seq <= i.head
    ORDER BY rev LIMIT {_CHANGED}) m
"""
_INDEXING_ADD = """
INSERT INTO nestrel.search_blocks (conversation_id, block, first_at, last_at, words, stale_since)
SELECT u.id, u.block, u.first_at, u.last_at, array_to_tsvector(u.words::text[]),
       clock_timestamp() + CASE WHEN u.stale THEN interval '0' WHEN NOT u.whole THEN interval '50 seconds' END
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::timestamptz[], $4::text::timestamptz[], $5::text[],
            $6::text::boolean[], $7::text::boolean[]) AS u (id, block, first_at, last_at, words, stale, whole)
"""
_INDEXING_EXPIRED = f"""
DELETE FROM nestrel.search_blocks b USING unnest($1::text::uuid[], $2::text::bigint[]) AS u (id, floor)
WHERE b.conversation_id = u.id AND b.block < (u.floor - 1) / {BLOCK}
"""
_INDEXING_AGED = f"""
UPDATE nestrel.search_blocks b SET stale_since = clock_timestamp()
FROM unnest($1::text::uuid[], $2::text::bigint[]) AS u (id, floor)
WHERE b.conversation_id = u.id AND b.block = (u.floor - 1) / {BLOCK}
  AND coalesce(b.stale_since > clock_timestamp(), true)
"""
_CLOSED = ["DELETE FROM nestrel.search_blocks WHERE conversation_id = ANY($1::text::uuid[])",
           "DELETE FROM nestrel.search_places WHERE conversation_id = ANY($1::text::uuid[])"]  # fmt: skip
_STANDS = """
UPDATE nestrel.search_places p SET rev = u.rev, head = u.head, floor = u.floor
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::bigint[]) AS u (id, rev, head, floor)
WHERE p.conversation_id = u.id
"""
_INDEXING_BEHIND = """
SELECT c.id FROM nestrel.conversations c
LEFT JOIN LATERAL (SELECT rev, head FROM nestrel.search_places WHERE conversation_id = c.id LIMIT 1) p ON true
WHERE c.id > $1 AND CASE WHEN c.closed_at IS NULL
                         THEN c.head > 0 AND (coalesce(p.rev, 0) < c.rev OR coalesce(p.head, 0) < c.head)
                         ELSE p.rev IS NOT NULL END
ORDER BY c.id LIMIT $2
"""
_NEXT_STALE = """
SELECT DISTINCT conversation_id, block FROM (
    SELECT conversation_id, block FROM nestrel.search_blocks
    WHERE stale_since < clock_timestamp() - make_interval(secs => $1::float8) ORDER BY stale_since LIMIT $2) s
"""
_OF_BLOCK = f"""
SELECT i.n - 1, m.seq, m.body, m.created_at
FROM unnest($1::text::uuid[], $2::text::bigint[]) WITH ORDINALITY AS i (id, block, n)
CROSS JOIN LATERAL (SELECT floor FROM nestrel.conversations WHERE id = i.id LIMIT 1) c
CROSS JOIN LATERAL (SELECT seq, body, created_at FROM nestrel.messages
    WHERE conversation_id = i.id AND seq >= greatest(i.block * {BLOCK} + 1, c.floor) AND seq <= (i.block + 1) * {BLOCK}
      AND removed_at IS NULL ORDER BY seq LIMIT {BLOCK}) m
"""
_PARTS = """
DELETE FROM nestrel.search_blocks b USING unnest($1::text::uuid[], $2::text::bigint[]) AS u (id, block)
WHERE b.conversation_id = u.id AND b.block = u.block RETURNING b.conversation_id, b.block, b.first_at, b.last_at
"""
_INDEXING_ONE = """
INSERT INTO nestrel.search_blocks (conversation_id, block, first_at, last_at, words)
SELECT u.id, u.block, u.first_at, u.last_at, array_to_tsvector(u.words::text[])
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::timestamptz[], $4::text::timestamptz[], $5::text[])
     AS u (id, block, first_at, last_at, words)
"""


@dataclass(slots=True)
class _Block:
    """What a step adds to a block, of so many `messages`; of one that is `stale` something has gone."""

    first_at: datetime
    last_at: datetime
    words: set[str] = field(default_factory=set)
    stale: bool = False
    messages: int = 0


@dataclass(slots=True)
class _Place:
    """How far a conversation is in the index: messages up to `head`, as they were at `rev` or later."""

    id: UUID
    rev: int
    head: int
    floor: int


async def bring(database: Database, ids: Sequence[UUID]) -> tuple[int, list[UUID]]:
    """Take in what is new in some conversations, of each as much as goes into one step; how many messages, and those
    of which there is, or may be, more: also those at which another process is."""
    async with database.write() as connection:
        await execute(connection, _INDEXING_PLACES, array(list(ids)))
        places = [_Place(*row) for row in await fetch(connection, _INDEXING_LOCK, array(list(ids)))]
        held = set(ids) - {place.id for place in places}
        if not places:
            return 0, list(held)
        stand = {row[0]: row[1:] for row in await fetch(connection, _STAND, array([place.id for place in places]))}
        gone = [place.id for place in places if place.id not in stand or stand[place.id][3]]
        if gone:
            for statement in _CLOSED:
                await execute(connection, statement, array(gone))
        places = [place for place in places if place.id in stand and _is_behind(place, stand[place.id])]
        if not places:
            return 0, list(held)
        taken, more = await _take_in(connection, places, {id_: row[:3] for id_, row in stand.items()})
        return taken, [*more, *held]


def _is_behind(place: _Place, stand: Sequence[Any]) -> bool:
    rev, head, _, closed = stand
    return not closed and (place.rev < rev or place.head < head)


async def _take_in(
    connection: Connection, places: Sequence[_Place], stand: dict[UUID, tuple[int, int, int]]
) -> tuple[int, list[UUID]]:
    blocks: dict[tuple[UUID, int], _Block] = {}
    more: list[UUID] = []
    old = {place.id: _Place(place.id, place.rev, place.head, place.floor) for place in places}
    budget = MESSAGES
    for place in places:
        rev, head, floor = stand[place.id]
        place.floor = floor
        place.head = _up_to(max(place.head, floor - 1), head, budget)
        budget -= place.head - old[place.id].head
        place.rev = rev  # as far as it is in the index; what comes behind is as new as it is read
        if place.head < head:
            more.append(place.id)
    taken = await _new(connection, blocks, [(one.id, old[one.id].head + 1, one.head) for one in places])
    # Changes up to the `rev` that was read, of what was in the index before; the rest is as new as it was read.
    asked = [
        (old[one.id], stand[one.id][0]) for one in places if old[one.id].head and stand[one.id][0] > old[one.id].rev
    ]
    for place_id, last_rev in (await _altered(connection, blocks, asked)).items():
        place = next(one for one in places if one.id == place_id)
        place.rev = min(place.rev, last_rev)
        if place_id not in more:
            more.append(place_id)
    await _add(connection, blocks)
    moved = [one for one in places if one.floor > old[one.id].floor]
    if moved:
        ids, floors = array([one.id for one in moved]), array([one.floor for one in moved])
        await execute(connection, _INDEXING_EXPIRED, ids, floors)
        await execute(connection, _INDEXING_AGED, ids, floors)
    await execute(
        connection, _STANDS, array([one.id for one in places]), array([one.rev for one in places]),
        array([one.head for one in places]), array([one.floor for one in places]),
    )  # fmt: skip
    return taken, more


def _up_to(start: int, head: int, budget: int) -> int:
    """How far a step takes a conversation in: to the end, or to that of a block if one is reached."""
    end = min(head, start + max(0, budget))
    whole = end // BLOCK * BLOCK
    return whole if end < head and whole > start else end


async def _new(
    connection: Connection, blocks: dict[tuple[UUID, int], _Block], asked: Iterable[tuple[UUID, int, int]]
) -> int:
    wanted = [one for one in asked if one[1] <= one[2]]
    if not wanted:
        return 0
    ids, lows, highs = zip(*wanted, strict=True)
    found = await fetch(connection, _INDEXING_NEW, array(ids), array(lows), array(highs))
    for n, (id_, seq, body, at) in enumerate(found):
        _put(blocks, id_, seq, body, at)
        await _let_others(n)
    return len(found)


async def _altered(
    connection: Connection, blocks: dict[tuple[UUID, int], _Block], asked: Sequence[tuple[_Place, int]]
) -> dict[UUID, int]:
    """Take in changed messages; of conversations with more of them, the `rev` up to which they were taken."""
    if not asked:
        return {}
    found = await fetch(
        connection, _ALTERED, array([place.id for place, _ in asked]), array([place.rev for place, _ in asked]),
        array([rev for _, rev in asked]), array([place.head for place, _ in asked]),
    )  # fmt: skip
    counts: dict[UUID, tuple[int, int]] = {}
    for n, (id_, seq, rev, body, at) in enumerate(found):
        await _let_others(n)
        _put(blocks, id_, seq, body, at).stale = True
        count, last = counts.get(id_, (0, 0))
        counts[id_] = count + 1, max(last, rev)
    return {id_: last for id_, (count, last) in counts.items() if count == _CHANGED}


async def _let_others(n: int) -> None:
    """Now and then whatever else the process has to do comes first: a long message takes a millisecond."""
    if n % _SLICE == _SLICE - 1:
        await asyncio.sleep(0)


def _put(blocks: dict[tuple[UUID, int], _Block], id_: UUID, seq: int, body: str, at: datetime) -> _Block:
    key = id_, (seq - 1) // BLOCK
    block = blocks.get(key)
    if block is None:
        block = blocks[key] = _Block(at, at, {place_lexeme(id_)})
    block.first_at, block.last_at = min(block.first_at, at), max(block.last_at, at)
    block.words.update(map(lexeme, pieces(body)))
    block.messages += 1
    return block


async def _add(connection: Connection, blocks: dict[tuple[UUID, int], _Block]) -> None:
    if blocks:
        await execute(
            connection, _INDEXING_ADD, array([id_ for id_, _ in blocks]), array([block for _, block in blocks]),
            array([one.first_at for one in blocks.values()]), array([one.last_at for one in blocks.values()]),
            [texts(sorted(one.words)) for one in blocks.values()], array([one.stale for one in blocks.values()]),
            array([one.messages >= BLOCK for one in blocks.values()]),
        )  # fmt: skip


async def behind(connection: Connection, after: UUID, limit: int) -> list[UUID]:
    """Conversations, by id, that are not in the index as they stand, or have been closed and still are in it."""
    return [row[0] for row in await fetch(connection, _INDEXING_BEHIND, after, limit)]


async def renew(database: Database, seconds: float = STALE_SECONDS) -> int:
    """Make some blocks anew of which something has gone for so long, or which have lain in parts for long enough; how
    many. One at whose conversation another process is comes later."""
    async with database.write() as connection:
        found = await fetch(connection, _NEXT_STALE, seconds, _STALE)
        if not found:
            return 0
        held = await fetch(connection, _INDEXING_LOCK, array(sorted({row[0] for row in found})))
        free = {row[0] for row in held}
        asked = [(id_, block) for id_, block in found if id_ in free]
        if not asked:
            return 0
        ids, numbers = array([id_ for id_, _ in asked]), array([block for _, block in asked])
        blocks: dict[tuple[UUID, int], _Block] = {}
        for id_, number, first_at, last_at in await fetch(connection, _PARTS, ids, numbers):
            block = blocks.setdefault((id_, number), _Block(first_at, last_at, {place_lexeme(id_)}))
            block.first_at, block.last_at = min(block.first_at, first_at), max(block.last_at, last_at)
        for row, (n, _, body, _) in enumerate(await fetch(connection, _OF_BLOCK, ids, numbers)):
            await _let_others(row)
            if asked[n] in blocks:
                blocks[asked[n]].words.update(map(lexeme, pieces(body)))
        await execute(
            connection, _INDEXING_ONE, array([id_ for id_, _ in blocks]), array([number for _, number in blocks]),
            array([one.first_at for one in blocks.values()]), array([one.last_at for one in blocks.values()]),
            [texts(sorted(one.words)) for one in blocks.values()],
        )  # fmt: skip
        return len(blocks)
