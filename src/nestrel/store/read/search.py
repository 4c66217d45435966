"""Search: blocks that have the words, newest first, and of them the messages, read from their rows and looked at.

Blocks of several conversations lie over each other in time. Each is read from its end on, some messages at a time, and
always those whose next message may be the newest: so what is found comes in the order of time, and no more is read than
a page needs.
"""

from __future__ import annotations

import asyncio
import heapq
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.paging import MessagePosition
from nestrel.core.search import Question
from nestrel.core.words import pieces_of
from nestrel.store import rules
from nestrel.store.lexemes import BLOCK, lexeme, place_lexeme
from nestrel.store.native import Connection, array, execute, fetch
from nestrel.store.read import messages
from nestrel.store.replicas import Replicas
from nestrel.store.rows import MESSAGE_COLUMNS, Wire

# A bitmap of blocks is what the index of words gives; elsewhere it is no good (see `Database`).
_BITMAPS = "SELECT set_config('enable_bitmapscan', 'on', true), set_config('enable_sort', 'on', true)"

_SEARCH_MINE = """
SELECT m.conversation_id FROM nestrel.members m
WHERE m.user_id = $1 AND m.left_at IS NULL ORDER BY m.conversation_id LIMIT $2
"""
# Those that may hold something before a place, the newest first.
_BLOCKS = f"""
SELECT b.conversation_id, b.block, b.first_at, b.last_at FROM nestrel.search_blocks b
WHERE b.words @@ $1::text::tsquery AND b.last_at >= $2
  AND (b.first_at, b.conversation_id, b.block * {BLOCK} + 1) < ($3, $4::uuid, $5)
  AND ($6 OR EXISTS (SELECT FROM nestrel.members m
       WHERE m.conversation_id = b.conversation_id AND m.user_id = $7 AND m.left_at IS NULL))
ORDER BY b.last_at DESC, b.conversation_id DESC, b.block DESC LIMIT $8
"""
# A body of ASCII that lacks a word of ASCII is left where it is; of any other one the tokenizer decides.
_TAILS = f"""
SELECT i.n - 1, c.floor, {", ".join("t." + name for name in MESSAGE_COLUMNS.split(", "))}
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::int[])
     WITH ORDINALITY AS i (id, low, high, count, n)
CROSS JOIN LATERAL (SELECT {rules.floor("x")} AS floor FROM nestrel.conversations x
    WHERE id = i.id AND closed_at IS NULL LIMIT 1) c
CROSS JOIN LATERAL (SELECT {MESSAGE_COLUMNS} FROM nestrel.messages
    WHERE conversation_id = i.id AND seq >= greatest(i.low, c.floor) AND seq <= i.high
      AND (created_at, conversation_id, seq) < ($5, $6::uuid, $7)
      AND (octet_length(body) <> char_length(body) OR lower(body COLLATE "C") LIKE ALL($8::text[]))
    ORDER BY seq DESC LIMIT i.count) t
ORDER BY i.n, t.seq DESC
"""

_INDEXED = "SELECT kept_at FROM nestrel.consumers WHERE name = 'search'"
_TOTAL = "SELECT reltuples::bigint FROM pg_class WHERE oid = 'nestrel.search_blocks'::regclass"

_BLOCKS_AT_ONCE = 600
"""Blocks of which one page knows, if that is enough to go on; behind the last of them the next page goes on."""
_BLOCKS_MOST = 100_000
_TAILS_AT_ONCE = 64
_FIRST_TAIL = 4
_MESSAGES = 8_192
"""Messages that one page looks at, about, a long one counted as several; it may then be short."""
_TYPICAL = 120
_SLICE = 16
_ROWS = 1_024
"""Messages that are read at one time; all of the longest make 25 MB."""
_READS = 64
"""Blocks that one page reads from, about, each as often as it is come to."""
_PLACES = 1_000
_NAMED = 64
_SHARE = 400
"""The index is asked for the words in up to 64 conversations. With more it takes long, so that it is asked for the
words alone, and of each block whether its conversation is the member's: with more than 1,000, or where for each of the
member's conversations there are at most so many blocks in all, as then most of what has the words may be theirs."""
END = datetime(9999, 12, 31, tzinfo=UTC)
BEGINNING = datetime(1, 1, 1, tzinfo=UTC)


LAST = MessagePosition(END, UUID(int=2**128 - 1), limits.SEQ_MOST)
"""Every message is before it."""


class Hit(NamedTuple):
    """A message that answers, and where what was looked for stands in it."""

    place: MessagePosition
    row: Sequence[Any]
    marks: list[tuple[int, int]]


@dataclass(frozen=True, slots=True)
class SearchFilter:
    """A question with its filters: one conversation, an author, a time from `since` on and before `until`."""

    question: Question
    conversation_id: UUID | None = None
    author: str | None = None
    since: datetime | None = None
    until: datetime | None = None


@dataclass(slots=True)
class _Block:
    """A block that is read from its end on: from `high` down to `low`; the next message is no newer than `bound`, and
    none is older than `first_at`."""

    id: UUID
    low: int
    high: int
    first_at: datetime
    bound: MessagePosition
    count: int = _FIRST_TAIL

    def __lt__(self, other: _Block) -> bool:
        """The heap's order: first the one that may have the newest."""
        return self.bound > other.bound


@dataclass(slots=True)
class HitPage:
    """A page of hits, newest first; `following` is behind what the next page begins, None at the end."""

    hits: list[Hit] = field(default_factory=list)
    following: MessagePosition | None = None


async def find(
    connection: Connection,
    caller: Caller,
    wanted: SearchFilter,
    limit: int,
    after: MessagePosition,
    replicas: Replicas | None = None,
) -> HitPage:
    """A page of what answers and is before a place, in a transaction that sees one moment. What the caller may read of
    a conversation that is named is the caller's business. Which blocks have the words, `replicas` may answer; whose
    they are and what stands in them is read here."""
    if wanted.until is not None and wanted.until <= after.at:
        after = MessagePosition(wanted.until, UUID(int=0), 0)
    await execute(connection, _BITMAPS)
    blocks, unseen = await _blocks(connection, caller, wanted, after, replicas)
    heapq.heapify(blocks)
    hits: list[Hit] = []
    literal = [f"%{_unlike(text)}%" for text in wanted.question.literal]
    looked = reads = 0
    while blocks and ((looked < _MESSAGES and reads < _READS) or blocks[0].bound >= after):
        if len(hits) > limit and heapq.nlargest(limit + 1, hits)[limit].place > blocks[0].bound:
            break
        batch = _next(blocks)
        reads += len(batch)
        found = await fetch(
            connection, _TAILS, array([one.id for one in batch]), array([one.low for one in batch]),
            array([one.high for one in batch]), array([one.count for one in batch]), *after, literal,
        )  # fmt: skip
        looked += sum(1 + len(row[_BODY_AT]) // _TYPICAL for row in found)
        for start in range(0, len(found), _SLICE):
            hits += _hits(found[start : start + _SLICE], batch, wanted)
            await asyncio.sleep(0)  # a long text takes a millisecond, and others wait for this process
        for block in _read_on(found, batch, wanted.since):
            heapq.heappush(blocks, block)
    hits.sort(reverse=True)
    # What may still come is no newer than this; of what is older than that nothing is said yet.
    edge = max([one.bound for one in blocks[:1]] + ([unseen] if unseen is not None else []), default=None)
    sure = hits if edge is None else [hit for hit in hits if hit.place > edge]
    if len(sure) > limit:
        return HitPage(sure[:limit], sure[limit - 1].place)
    return HitPage(sure, None if edge is None else edge._replace(seq=edge.seq + 1))


async def _blocks(
    connection: Connection, caller: Caller, wanted: SearchFilter, after: MessagePosition, replicas: Replicas | None
) -> tuple[list[_Block], MessagePosition | None]:
    """Blocks that have the words and may hold something before a place; and, of those that are left out, how new the
    newest may be."""
    places, anywhere = list[UUID](), True
    if wanted.conversation_id is not None:
        places = [wanted.conversation_id]
    elif not caller.service:
        places = [row[0] for row in await fetch(connection, _SEARCH_MINE, caller.user_id, _PLACES + 1)]
        if not places:
            return [], None
        if len(places) > _PLACES or (len(places) > _NAMED and await _are_many(connection, len(places))):
            places, anywhere = [], False
    query, since = _query(wanted.question, places), wanted.since or BEGINNING
    for most in (_BLOCKS_AT_ONCE, _BLOCKS_MOST):
        values = query, since, *after, anywhere, caller.user_id, most + 1
        # Whose each block is, where it has to be asked of each, only the primary knows.
        found = await _elsewhere(connection, replicas, values) if anywhere and replicas is not None else None
        if found is None:
            found = await fetch(connection, _BLOCKS, *values)
        blocks = _whole(
            [
                _Block(
                    id_,
                    block * BLOCK + 1,
                    block * BLOCK + BLOCK,
                    first_at,
                    min(after, MessagePosition(last_at, id_, block * BLOCK + BLOCK)),
                )
                for id_, block, first_at, last_at in found
            ]
        )
        if len(found) <= most:
            return blocks, None
        id_, block, _, last_at = found[most]
        unseen = min(after, MessagePosition(last_at, id_, block * BLOCK + BLOCK))
        if unseen < after:
            break  # else all of them reach over the place where the page begins, and any may have the next
    return blocks, unseen


async def _elsewhere(connection: Connection, replicas: Replicas, values: Sequence[Any]) -> Sequence[Any] | None:
    """The blocks of a standby that has the index as far as it is kept; None if there is none."""
    [(kept_at,)] = await fetch(connection, _INDEXED)

    async def holds(there: Connection) -> bool:
        [(at,)] = await fetch(there, _INDEXED)
        return kept_at is None or (at is not None and at >= kept_at)

    async def read(there: Connection) -> Sequence[Any]:
        async with there.transaction(readonly=True):
            await execute(there, _BITMAPS)
            return await fetch(there, _BLOCKS, *values)

    return await replicas.ask(holds, read)


def _whole(parts: Sequence[_Block]) -> list[_Block]:
    """Blocks of which several parts have the words, each once."""
    blocks: dict[tuple[UUID, int], _Block] = {}
    for part in parts:
        block = blocks.setdefault((part.id, part.low), part)
        block.first_at, block.bound = min(block.first_at, part.first_at), max(block.bound, part.bound)
    return list(blocks.values())


async def _are_many(connection: Connection, places: int) -> bool:
    return bool((await fetch(connection, _TOTAL))[0][0] <= places * _SHARE)


def _query(question: Question, places: Sequence[UUID]) -> str:
    """What the words of a block must have, as a tsquery."""
    parts = list[str]()
    for term in question.wanted:
        found = [piece for word in term.words for piece in pieces_of(word)]
        parts += [_quoted(lexeme(piece)) for piece in found[: -1 if term.prefix else None]]
        if term.prefix:
            parts.append(_quoted(lexeme(found[-1])) + ":*")
    if places:
        parts.append(f"({' | '.join(_quoted(place_lexeme(place)) for place in places)})")
    return " & ".join(dict.fromkeys(parts))


def _quoted(word: str) -> str:
    return "'" + word.replace("\\", "\\\\").replace("'", "''") + "'"


def _unlike(text: str) -> str:
    """Text in which LIKE finds no sign that means something to it."""
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def _next(blocks: list[_Block]) -> list[_Block]:
    """The block that may have the newest message, and others that reach over it in time; what is older than all of it
    can wait."""
    batch = [heapq.heappop(blocks)]
    rows = batch[0].count
    while blocks and len(batch) < _TAILS_AT_ONCE and blocks[0].bound.at >= batch[0].first_at:
        rows += blocks[0].count
        if rows > _ROWS:
            break
        batch.append(heapq.heappop(blocks))
    return batch


def _hits(found: Sequence[Any], batch: Sequence[_Block], wanted: SearchFilter) -> list[Hit]:
    hits = []
    for n, _, *row in found:
        at = row[_CREATED_AT]
        place = MessagePosition(at, batch[n].id, row[0])
        if row[_REMOVED_AT] is not None:
            continue
        if wanted.author is not None and row[_AUTHOR] != wanted.author:
            continue
        if (wanted.since is not None and at < wanted.since) or (wanted.until is not None and at >= wanted.until):
            continue
        marks = wanted.question.marks(row[_BODY])
        if marks is not None:
            hits.append(Hit(place, row, marks))
    return hits


def _read_on(found: Sequence[Any], batch: Sequence[_Block], since: datetime | None) -> list[_Block]:
    """The blocks of a batch of which there is more to read, each from where it goes on."""
    counts, last = [0] * len(batch), dict[int, Any]()
    for n, *row in found:
        counts[n] += 1
        last[n] = row
    more = []
    for n, block in enumerate(batch):
        if counts[n] < block.count:
            continue  # it has come to its end, or to the floor
        floor, *row = last[n]
        at = row[_CREATED_AT]
        block.high = row[0] - 1
        block.bound = min(block.bound, MessagePosition(at, block.id, block.high))
        block.count = min(block.count * 4, BLOCK)
        if block.high >= max(block.low, floor) and (since is None or at >= since):
            more.append(block)
    return more


_COLUMNS = MESSAGE_COLUMNS.split(", ")
_AUTHOR, _BODY = _COLUMNS.index("author_id"), _COLUMNS.index("body")
_CREATED_AT, _REMOVED_AT = _COLUMNS.index("created_at"), _COLUMNS.index("removed_at")
_BODY_AT = 2 + _BODY
"""Behind the number of the block and the floor."""


async def wires(connection: Connection, hits: Sequence[Hit]) -> list[Wire]:
    """Hits as the wire has them."""
    found = await messages.wires(connection, [(hit.place.conversation_id, hit.row) for hit in hits])
    return [
        {"message": message, "marks": [list(mark) for mark in hit.marks]}
        for message, hit in zip(found, hits, strict=True)
    ]
