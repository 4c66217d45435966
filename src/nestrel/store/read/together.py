"""The change sets of many conversations, in as many statements as one of them takes: what every reader of changes goes
through, whoever asks.

The counters are read first and rows are read up to them. `rev` follows commit order, so every row that they count is
visible by then; a row that moves on meanwhile has a higher `rev` and comes with the next reading. First come rows that
changed, then new ones, then members: each has its own part of the position.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any
from uuid import UUID

from nestrel.core import limits
from nestrel.core.catching_up import new_messages, only_posts
from nestrel.core.cursors import ChangePosition
from nestrel.store import rows
from nestrel.store.native import Connection, array, fetch
from nestrel.store.read import conversations, messages, profiles
from nestrel.store.read.changes import Changes, State
from nestrel.store.rows import MEMBER_COLUMNS, MESSAGE_COLUMNS

SIZE = limits.CHANGE_SET_BYTES * 3 // 4
"""Bytes of rows that are likely to go into one change set."""
UNBOUNDED = 1 << 62
_ROW_BYTES = 400
"""What a message takes in a change set beside its body, attributes and attachments, about."""
_SIZE = f"""({_ROW_BYTES} + octet_length(body) + coalesce(octet_length(attributes), 0)
    + coalesce(octet_length(attachments), 0))"""

# A message has changed when its row has, or its reactions have.
_TOGETHER_TOUCHED = """
SELECT i.n, m.rev, m.seq FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::bigint[],
    $5::text::bigint[]) WITH ORDINALITY AS i (id, rev, upto, floor, seq, n)
CROSS JOIN LATERAL (
    (SELECT rev, seq FROM nestrel.messages WHERE conversation_id = i.id AND changed AND rev > i.rev AND rev <= i.upto
     AND seq BETWEEN i.floor AND i.seq ORDER BY rev LIMIT $6)
    UNION ALL
    (SELECT rev, seq FROM nestrel.reaction_counts WHERE conversation_id = i.id AND rev > i.rev AND rev <= i.upto
     AND seq BETWEEN i.floor AND i.seq ORDER BY rev LIMIT $6)
) m ORDER BY i.n, m.rev
"""
# Of both, no more is read than goes into so many bytes, in the order of the conversations.
_TOGETHER_THESE = f"""
SELECT n, {MESSAGE_COLUMNS}, total FROM (
    SELECT i.n, {rows.columns("m", MESSAGE_COLUMNS)}, m.size,
           sum(m.size) OVER (ORDER BY i.n ROWS UNBOUNDED PRECEDING) AS total
    FROM unnest($1::text::uuid[], $2::text::bigint[]) WITH ORDINALITY AS i (id, seq, n)
    CROSS JOIN LATERAL (SELECT {MESSAGE_COLUMNS}, {_SIZE} AS size FROM nestrel.messages
        WHERE conversation_id = i.id AND seq = i.seq LIMIT 1) m
) x WHERE total - size < $3 ORDER BY n
"""
_TOGETHER_NEW = f"""
SELECT n, {MESSAGE_COLUMNS}, total FROM (
    SELECT i.n, {rows.columns("m", MESSAGE_COLUMNS)}, m.size,
           sum(m.size) OVER (ORDER BY i.n, CASE WHEN i.newest THEN -m.seq ELSE m.seq END
                             ROWS UNBOUNDED PRECEDING) AS total
    FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::bigint[], $5::text::boolean[])
         WITH ORDINALITY AS i (id, low, head, most, newest, n)
    CROSS JOIN LATERAL (
        (SELECT {MESSAGE_COLUMNS}, {_SIZE} AS size FROM nestrel.messages
         WHERE NOT i.newest AND conversation_id = i.id AND seq BETWEEN i.low AND i.head ORDER BY seq LIMIT i.most)
        UNION ALL
        (SELECT {MESSAGE_COLUMNS}, {_SIZE} AS size FROM nestrel.messages
         WHERE i.newest AND conversation_id = i.id AND seq BETWEEN i.low AND i.head ORDER BY seq DESC LIMIT i.most)
    ) m
) x WHERE total - size < $6 ORDER BY n, seq
"""
# A fresh copy is not told who has left before. Of a crowd, those come who rule or ruled it; and who has left since, of
# whom nobody is told but themselves.
_TOGETHER_MEMBERS = f"""
SELECT i.n, {rows.columns("m", MEMBER_COLUMNS)}, m.left_reason, m.ranked OR NOT i.crowd
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::boolean[], $5::text::boolean[],
    $6::text::bigint[]) WITH ORDINALITY AS i (id, rev, upto, crowd, fresh, most, n)
CROSS JOIN LATERAL (
    (SELECT {MEMBER_COLUMNS}, left_reason, ranked FROM nestrel.members
     WHERE NOT (i.crowd AND i.fresh) AND conversation_id = i.id AND rev > i.rev AND rev <= i.upto
       AND (NOT i.crowd OR ranked OR left_at IS NOT NULL) AND (NOT i.fresh OR left_at IS NULL)
     ORDER BY rev LIMIT i.most)
    UNION ALL
    (SELECT {MEMBER_COLUMNS}, left_reason, ranked FROM nestrel.members
     WHERE i.crowd AND i.fresh AND conversation_id = i.id AND rev > i.rev AND rev <= i.upto
       AND ranked AND left_at IS NULL
     ORDER BY rev LIMIT i.most)
) m ORDER BY i.n, m.rev
"""


@dataclass(frozen=True, slots=True)
class ReadRequest:
    """From where on a conversation is read, up to its `state`: without a `start` it begins with its newest page, of
    `page` messages. One that is `fresh` is a first copy, and is given `reset`."""

    start: ChangePosition | None
    state: State
    fresh: bool = False
    page: int = limits.PAGE_DEFAULT

    @property
    def is_fresh(self) -> bool:
        return self.fresh or self.start is None

    @property
    def only_posts(self) -> bool:
        return not self.fresh and only_posts(self.start, self.state.counters)


@dataclass(slots=True)
class _Part:
    """What is being read of one conversation."""

    asked: ReadRequest
    changes: Changes
    rows: int

    @property
    def left(self) -> int:
        """How many rows more it may have."""
        return max(0, self.rows - len(self.changes.messages) - len(self.changes.members))


@dataclass(slots=True)
class _Reading:
    """The parts, in the order in which they were asked for; those behind one that was cut are not read."""

    connection: Connection
    parts: dict[UUID, _Part]
    size: int
    used: int = 0

    def cut(self, behind: UUID) -> None:
        kept = dict[UUID, _Part]()
        for id_, part in self.parts.items():
            kept[id_] = part
            if id_ == behind:
                break
        self.parts = kept

    def going_on(self) -> list[tuple[UUID, _Part]]:
        """Those that have not come to their end."""
        return [(id_, part) for id_, part in self.parts.items() if not part.changes.more]


async def read(
    connection: Connection,
    asked: Mapping[UUID, ReadRequest],
    most: int,
    *,
    size: int = SIZE,
    item: int = limits.CHANGE_SET_BYTES,
) -> dict[UUID, Changes]:
    """The change sets of the first of some, in their order, as many as go into about `size` bytes: at most `most` rows
    of each, and no more than go into `item` bytes on the wire; what is behind that comes after, where it says `more`.
    None that was asked for is left out but by one before it."""
    parts = dict[UUID, _Part]()
    for id_, one in asked.items():
        end = one.start or ChangePosition(one.state.rev, one.state.head, 0, one.state.epoch)
        changes = Changes(id_, one.start, end, one.state.head, one.state.floor, reset=one.is_fresh)
        parts[id_] = _Part(one, changes, most if one.start is not None else max(most, one.page))
    reading = _Reading(connection, parts, size)
    if parts:
        await _touched(reading, most)
        await _new(reading)
        await _members(reading)
        await _complete(reading)
    found = dict[UUID, Changes]()
    for id_, part in reading.parts.items():
        changes = found[id_] = await _fitted(connection, part, item)
        if changes.more and changes is not part.changes:
            break  # what is behind it comes once it is whole
    return found


async def _fitted(connection: Connection, part: _Part, item: int) -> Changes:
    """A change set of no more than so many bytes, where it can be made so small."""
    changes = part.changes
    if changes.start is not None:
        return changes.parts(item)[0]
    while changes.too_large(item):
        fewer = changes.fewer()
        asked = replace(part.asked, page=min(fewer, part.asked.page))
        changes = (await read(connection, {changes.conversation_id: asked}, fewer, item=UNBOUNDED))[
            changes.conversation_id
        ]
    return changes


# Messages


async def _touched(reading: _Reading, most: int) -> None:
    """Messages that have changed, each once, in the order in which they were first touched."""
    wanted = [(id_, part) for id_, part in reading.parts.items() if _may_have_changed(part.asked)]
    if not wanted:
        return
    moves: list[list[tuple[int, int]]] = [[] for _ in wanted]
    found = await fetch(
        reading.connection, _TOGETHER_TOUCHED, array([id_ for id_, _ in wanted]),
        array([part.changes.end.rev for _, part in wanted]), array([part.asked.state.rev for _, part in wanted]),
        array([part.asked.state.floor for _, part in wanted]),
        array([min(part.changes.end.seq, part.asked.state.head) for _, part in wanted]), most + 1,
    )  # fmt: skip
    for n, rev, seq in found:
        moves[n - 1].append((rev, seq))
    pairs = [(n, seq) for n, one in enumerate(moves) for seq in dict.fromkeys(seq for _, seq in one[:most])]
    got, until = await _those(reading, [(wanted[n][0], seq) for n, seq in pairs])
    unread = set(pairs[until:])
    for n, (_, part) in enumerate(wanted):
        taken = min(len(moves[n]), most)
        if unread:
            taken = next((k for k, (_, seq) in enumerate(moves[n][:taken]) if (n, seq) in unread), taken)
        part.changes.more = taken < len(moves[n])
        rev = (moves[n][taken - 1][0] if taken else part.changes.end.rev) if part.changes.more else part.asked.state.rev
        part.changes.end = replace(part.changes.end, rev=rev)
    for id_, message in got:
        reading.parts[id_].changes.messages.append(message)
    if unread:
        reading.cut(wanted[pairs[until - 1][0]][0])


def _may_have_changed(asked: ReadRequest) -> bool:
    return asked.start is not None and asked.start.rev < asked.state.rev and not asked.only_posts


async def _those(reading: _Reading, wanted: Sequence[tuple[UUID, int]]) -> tuple[list[tuple[UUID, rows.Wire]], int]:
    """Messages, as many of the first as there is room for; and how many that covers."""
    if not wanted:
        return [], 0
    found = await fetch(
        reading.connection, _TOGETHER_THESE, array([one[0] for one in wanted]), array([one[1] for one in wanted]),
        reading.size - reading.used,
    )  # fmt: skip
    got = [(wanted[row[0] - 1][0], row[1:-1]) for row in found]
    messages_ = await messages.wires(reading.connection, got)
    until = len(wanted)
    if found:
        reading.used, full = _used(reading, found)
        until = found[-1][0] if full else until
    return [(id_, message) for (id_, _), message in zip(got, messages_, strict=True)], until


def _used(reading: _Reading, found: Sequence[Any]) -> tuple[int, bool]:
    """How many bytes of rows have been read, and whether that is all that there is room for."""
    used = reading.used + int(max(row[-1] for row in found))
    return used, used >= reading.size


async def _new(reading: _Reading) -> None:
    """New messages in their order, or the newest page."""
    wanted = [(id_, part) for id_, part in reading.going_on() if _has_new(part.asked)]
    if not wanted:
        return
    pages = [part.asked.start is None for _, part in wanted]
    lows = [max(part.changes.end.seq + 1, part.asked.state.floor) if part.asked.start else part.asked.state.floor
            for _, part in wanted]  # fmt: skip
    mosts = [part.asked.page if part.asked.start is None else part.left + 1 for _, part in wanted]
    room = max(reading.size - reading.used, 1)
    found = await fetch(
        reading.connection, _TOGETHER_NEW, array([id_ for id_, _ in wanted]), array(lows),
        array([part.asked.state.head for _, part in wanted]), array(mosts), array(pages), room,
    )  # fmt: skip
    got: list[list[Any]] = [[] for _ in wanted]
    for row in found:
        got[row[0] - 1].append(row)
    # What fills the room is the last that was read: the others behind it were not.
    full = bool(found) and max(row[-1] for row in found) >= room
    last = found[-1][0] - 1 if full else len(wanted) - 1
    kept: list[tuple[UUID, Sequence[Any]]] = []
    for n, (id_, part) in enumerate(wanted[: last + 1]):
        changes, head = part.changes, part.asked.state.head
        mine = got[n] if pages[n] else got[n][: part.left]
        kept += [(id_, row[1:-1]) for row in mine]
        if not pages[n]:
            cut = len(got[n]) > len(mine) or (full and n == last)
            seq = head if not cut else mine[-1][1] if mine else changes.end.seq
            changes.end = replace(changes.end, rev=part.asked.state.rev, seq=seq)
            changes.more = seq < head
    for (id_, _), message in zip(kept, await messages.wires(reading.connection, kept), strict=True):
        reading.parts[id_].changes.messages.append(message)
    if full:
        reading.cut(wanted[last][0])


def _has_new(asked: ReadRequest) -> bool:
    return asked.start is None or new_messages(asked.start, asked.state.counters) > 0


# Members, and what belongs to the whole


async def _members(reading: _Reading) -> None:
    wanted = []
    for id_, part in reading.going_on():
        state, start = part.asked.state, part.asked.start
        if start is not None:
            part.changes.end = ChangePosition(state.rev, state.head, start.member_rev, state.epoch)
        if part.asked.only_posts or part.changes.end.member_rev >= state.rev:
            part.changes.end = replace(part.changes.end, member_rev=state.rev)
        else:
            wanted.append((id_, part))
    if not wanted:
        return
    found = await fetch(
        reading.connection, _TOGETHER_MEMBERS, array([id_ for id_, _ in wanted]),
        array([part.changes.end.member_rev for _, part in wanted]),
        array([part.asked.state.rev for _, part in wanted]), array([part.asked.state.crowd for _, part in wanted]),
        array([part.asked.is_fresh for _, part in wanted]), array([part.left + 1 for _, part in wanted]),
    )  # fmt: skip
    got: list[list[Any]] = [[] for _ in wanted]
    for row in found:
        got[row[0] - 1].append(row[1:])
    for n, (_, part) in enumerate(wanted):
        changes, left = part.changes, part.left
        for row in got[n][:left]:
            if row[3] is not None:
                changes.departed[row[0]] = row[-2]
            if row[-1]:
                changes.members.append(rows.member(row))
        changes.more = len(got[n]) > left
        rev = part.asked.state.rev
        if changes.more:
            rev = got[n][left - 1][6] if left else changes.end.member_rev
        changes.end = replace(changes.end, member_rev=rev)


async def _complete(reading: _Reading) -> None:
    own, people = list[UUID](), dict[UUID, set[str]]()
    for id_, part in reading.parts.items():
        start = part.asked.start
        if start is None or part.asked.fresh or part.asked.state.own_rev > min(start.rev, start.member_rev):
            own.append(id_)
        people[id_] = rows.people(part.changes.messages, part.changes.members)
    for id_, shown in (await conversations.show_some(reading.connection, own)).items():
        reading.parts[id_].changes.conversation = shown
    known = await profiles.read(reading.connection, set().union(*people.values()))
    for id_, names in people.items():
        reading.parts[id_].changes.profiles = {user_id: known[user_id] for user_id in sorted(names)}
