"""What changed in a conversation after a position: the tables are their own change feed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import ChangePosition
from nestrel.core.epochs import Begun
from nestrel.store import epochs, rows, rules
from nestrel.store.access import Access
from nestrel.store.native import Connection, array, fetch
from nestrel.store.read import conversations, messages, profiles
from nestrel.store.rows import MEMBER_COLUMNS, MESSAGE_COLUMNS, Wire

# A message has changed when its row has, or its reactions have.
_CHANGED = """
(SELECT rev, seq FROM nestrel.messages
 WHERE conversation_id = $1 AND changed AND rev > $2 AND rev <= $6 AND seq BETWEEN $3 AND $4 ORDER BY rev LIMIT $5)
UNION ALL
(SELECT rev, seq FROM nestrel.reaction_counts
 WHERE conversation_id = $1 AND rev > $2 AND rev <= $6 AND seq BETWEEN $3 AND $4 ORDER BY rev LIMIT $5)
"""
_THESE = f"SELECT {MESSAGE_COLUMNS} FROM nestrel.messages WHERE conversation_id = $1 AND seq = ANY($2::text::bigint[])"
_ROW_BYTES = 400
"""What a message takes in a change set beside its body, attributes and attachments, about."""
_SIZE = f"""({_ROW_BYTES} + octet_length(body) + coalesce(octet_length(attributes), 0)
    + coalesce(octet_length(attachments), 0))"""
_BUDGET = limits.CHANGE_SET_BYTES * 3 // 4
_FEW = 100
"""Changed messages that are read at one time."""


def _within(order: str) -> str:
    """Messages of a range in an order, as many as are likely to fit into one change set; no more are even read."""
    return f"""
SELECT {MESSAGE_COLUMNS} FROM (
    SELECT {MESSAGE_COLUMNS}, {_SIZE} AS size,
           sum({_SIZE}) OVER (ORDER BY {order} ROWS UNBOUNDED PRECEDING) AS total
    FROM nestrel.messages WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3 ORDER BY {order} LIMIT $4) m
WHERE total - size <= {_BUDGET}
"""


_NEW = _within("seq")
_NEWEST = _within("seq DESC")
_MEMBERS = f"""
SELECT {MEMBER_COLUMNS}, left_reason, true FROM nestrel.members
WHERE conversation_id = $1 AND rev > $2 AND rev <= $4 ORDER BY rev LIMIT $3
"""
# Of a crowd, those who rule or ruled it; and who has left since, of whom nobody is told but themselves.
_RANKED = f"""
SELECT {MEMBER_COLUMNS}, left_reason, ranked FROM nestrel.members
WHERE conversation_id = $1 AND rev > $2 AND rev <= $4 AND (ranked OR left_at IS NOT NULL) ORDER BY rev LIMIT $3
"""
_RANKED_NOW = f"""
SELECT {MEMBER_COLUMNS}, left_reason, true FROM nestrel.members
WHERE conversation_id = $1 AND rev > $2 AND rev <= $4 AND ranked ORDER BY rev LIMIT $3
"""
_COUNT = """
SELECT (SELECT count(*) FROM (SELECT 1 FROM nestrel.messages
            WHERE conversation_id = $1 AND changed AND rev > $2 AND seq >= $3 LIMIT $4) m)
     + (SELECT count(*) FROM (SELECT 1 FROM nestrel.reaction_counts
            WHERE conversation_id = $1 AND rev > $2 AND seq >= $3 LIMIT $4) c)
"""
_STATES = f"""
SELECT {epochs.CURRENT}, id, rev, head, {rules.floor("c")}, own_rev, closed_at IS NOT NULL, epochs, begins, crowd
FROM nestrel.conversations c WHERE id = ANY($1::uuid[])
"""


@dataclass(slots=True)
class Changes:
    """One change set before it is addressed to anyone: it has no cursors yet, only where it leads from and to.

    `departed` names the members whose membership has ended, each with the reason; `closed` says that the
    conversation is no more.
    """

    conversation_id: UUID
    start: ChangePosition | None
    end: ChangePosition
    head: int
    floor: int
    reset: bool = False
    more: bool = False
    conversation: Wire | None = None
    messages: list[Wire] = field(default_factory=list)
    members: list[Wire] = field(default_factory=list)
    profiles: dict[str, Wire] = field(default_factory=dict)
    departed: dict[str, str] = field(default_factory=dict)
    closed: bool = False
    _tail: bytes | None = None

    def tail(self) -> str:
        """All of the JSON object behind `base` and `cursor`, which differ for each reader; written once for all."""
        return self.packed().decode()

    def too_large(self, most: int = limits.CHANGE_SET_BYTES) -> bool:
        """Whether it is more than one change set may be on the wire, and can be made less: a row is never split."""
        return len(self.messages) + len(self.members) > 1 and len(self.packed()) > most

    def packed(self) -> bytes:
        """`tail` as it goes out; the change set must not change any more."""
        if self._tail is None:
            self._tail = self._pack()
        return self._tail

    def _pack(self) -> bytes:
        packed = rows.dump(
            {
                "conversation_id": str(self.conversation_id),
                "head": self.head,
                "floor": self.floor,
                "reset": self.reset,
                "more": self.more,
                "conversation": self.conversation,
                "messages": self.messages,
                "members": self.members,
                "profiles": self.profiles,
            }
        )
        return packed[1:]

    def beginning(self) -> Changes:
        """The same as the first of its conversation, with `reset`."""
        return replace(self, reset=True, _tail=None)

    def fewer(self) -> int:
        """How many rows of as many as this has are likely to fit."""
        rows_ = len(self.messages) + len(self.members)
        return max(1, min(rows_ - 1, rows_ * limits.CHANGE_SET_BYTES * 3 // (4 * len(self.packed()))))

    def parts(self, most: int = limits.CHANGE_SET_BYTES) -> list[Changes]:
        """The same in as many change sets as it takes for each to be within the limit, one leading on to the next."""
        if self.start is None or not self.too_large(most):
            return [self]
        start = self.start
        changed = sorted((one for one in self.messages if one["seq"] <= start.seq), key=lambda one: int(one["rev"]))
        new = sorted((one for one in self.messages if one["seq"] > start.seq), key=lambda one: int(one["seq"]))
        members = sorted(self.members, key=lambda one: int(one["rev"]))
        half = (len(self.messages) + len(members)) // 2
        ordered = [*changed, *new]
        if half < len(changed):
            middle = replace(start, rev=changed[half - 1]["rev"])
        elif half <= len(ordered):
            middle = replace(start, rev=self.end.rev, seq=new[half - len(changed) - 1]["seq"] if half > len(changed)
                             else start.seq)  # fmt: skip
        else:
            middle = replace(self.end, member_rev=members[half - len(ordered) - 1]["rev"])
        first = self._part(start, middle, ordered[:half], members[: max(0, half - len(ordered))], more=True)
        second = self._part(middle, self.end, ordered[half:], members[max(0, half - len(ordered)) :], more=self.more)
        second.conversation, second.departed, second.closed = self.conversation, self.departed, self.closed
        return [*first.parts(most), *second.parts(most)]

    def _part(
        self, start: ChangePosition, end: ChangePosition, messages_: list[Wire], members: list[Wire], *, more: bool
    ) -> Changes:
        people = rows.people(messages_, members)
        shown = {user_id: one for user_id, one in self.profiles.items() if user_id in people}
        return Changes(self.conversation_id, start, end, self.head, self.floor, more=more, messages=messages_,
                       members=members, profiles=shown)  # fmt: skip


@dataclass(frozen=True, slots=True)
class State:
    """A conversation's counters at one moment, in the present `epoch`; `begun` is the epochs that its row knows of,
    `crowd` whether its members are too many to be carried."""

    rev: int
    head: int
    floor: int
    own_rev: int
    closed: bool
    epoch: int
    begun: Begun
    crowd: bool = False

    @property
    def position(self) -> ChangePosition:
        return ChangePosition(self.rev, self.head, self.rev, self.epoch)


async def states(connection: Connection, conversation_ids: Sequence[UUID]) -> dict[UUID, State]:
    """The counters now; an id that never was a conversation is left out."""
    found = await fetch(connection, _STATES, list(conversation_ids))
    return {row[1]: _state(connection, *row) for row in found}


def _state(
    connection: Connection, present: int | None, _id: UUID, rev: int, head: int, floor: int, own_rev: int, closed: bool,
    in_epochs: Sequence[int], begins: Sequence[int], crowd: bool,
) -> State:  # fmt: skip
    epoch = connection.history.check(present)
    return State(rev, head, floor, own_rev, closed, epoch, Begun(in_epochs, begins, rev), crowd)


def position_of(access: Access) -> ChangePosition:
    """Where a client stands that holds everything which `access` saw."""
    return ChangePosition(access.rev, access.head, access.rev, access.epoch)


async def since(
    connection: Connection,
    conversation_id: UUID,
    start: ChangePosition,
    limit: int,
    *,
    upto: ChangePosition | None = None,
    most: int | None = None,
) -> Changes | None:
    """What changed after `start`, at most `limit` rows; `more` if there is more. None: there is no conversation.
    `upto` ends it at an earlier position than the present. Where more than `most` messages changed, or `start` is of
    a state that is lost, the newest page is given instead, with `reset`.

    The counters are read first and rows are read up to them. `rev` follows commit order, so every row that they
    count is visible by then; a row that moves on meanwhile has a higher `rev` and comes with the next read. First
    come rows that changed, then new ones, then members: each has its own part of the position.
    """
    now = (await states(connection, [conversation_id])).get(conversation_id)
    if now is None:
        return None
    changes = Changes(conversation_id, start, start, now.head, now.floor, closed=now.closed)
    if now.closed:
        changes.end = now.position
        return changes
    if not connection.history.known.holds(start, now.begun) or (
        most is not None and await _too_far(connection, conversation_id, start, now, most)
    ):
        return await newest(connection, conversation_id, min(limit, limits.PAGE_MOST))
    if upto is not None and upto.epoch == now.epoch and upto.rev < now.rev:
        now = replace(now, rev=upto.rev, head=upto.seq)
        changes.head = now.head
    while True:
        await _read_rows(connection, changes, start, now, limit)
        await _complete(connection, changes, own=now.own_rev > min(start.rev, start.member_rev))
        if not changes.too_large():
            return changes
        limit = changes.fewer()
        changes = Changes(conversation_id, start, start, now.head, now.floor)


async def _too_far(connection: Connection, conversation_id: UUID, start: ChangePosition, now: State, most: int) -> bool:
    """Whether a catch-up is too large; arithmetic for most, and else counted no further than `most`."""
    if now.rev - start.rev <= most:
        return False
    new = now.head - max(start.seq, now.floor - 1)
    if new > most:
        return True
    [(changed,)] = await fetch(connection, _COUNT, conversation_id, start.rev, now.floor, most - new + 1)
    return bool(new + changed > most)


async def newest(
    connection: Connection, conversation_id: UUID, limit: int, *, rows: int | None = None
) -> Changes | None:
    """A first change set: the conversation and its newest `limit` messages, and members up to `rows` rows in all (by
    default `limit`); the other members follow from its position on."""
    now = (await states(connection, [conversation_id])).get(conversation_id)
    if now is None or now.closed:
        return None
    rows = rows or limit
    end = ChangePosition(now.rev, now.head, 0, now.epoch)
    while True:
        found = await fetch(connection, _NEWEST, conversation_id, now.floor, now.head, limit)
        changes = Changes(conversation_id, None, end, now.head, now.floor, reset=True)
        changes.messages = await messages.wires_of(connection, conversation_id, found[::-1])
        await _read_members(connection, changes, now, rows - len(changes.messages))
        await _complete(connection, changes, own=True)
        if not changes.too_large():
            return changes
        rows = changes.fewer()
        limit = min(limit, rows)


async def _read_rows(connection: Connection, changes: Changes, start: ChangePosition, now: State, limit: int) -> None:
    rev, seq = start.rev, min(start.seq, now.head)
    if rev < now.rev:
        touched = await fetch(connection, _CHANGED, changes.conversation_id, rev, now.floor, seq, limit + 1, now.rev)
        moves = sorted((row[0], row[1]) for row in touched)
        taken = await _these(connection, changes, [one[1] for one in moves[:limit]])
        changes.more = taken < len(moves)
        rev = moves[taken - 1][0] if changes.more else now.rev
    limit -= len(changes.messages)
    if not changes.more and seq < now.head:
        low = max(seq + 1, now.floor)
        new = await fetch(connection, _NEW, changes.conversation_id, low, now.head, limit + 1)
        found = new[:limit]
        changes.messages += await messages.wires_of(connection, changes.conversation_id, found)
        seq = found[-1][0] if found else seq if new else now.head
        changes.more = seq < now.head
        limit -= len(found)
    changes.end = ChangePosition(rev, seq, start.member_rev, now.epoch)
    if not changes.more:
        await _read_members(connection, changes, now, limit)


async def _these(connection: Connection, changes: Changes, seqs: Sequence[int]) -> int:
    """Add messages in the order in which they were first touched, each once, and no more than are likely to fit;
    returns how many of `seqs` that covers."""
    taken, size, told = 0, 0, set[int]()
    while taken < len(seqs) and size < _BUDGET:
        some = seqs[taken : taken + _FEW]
        wanted = [seq for seq in dict.fromkeys(some) if seq not in told]
        taken += len(some)
        told.update(wanted)
        found = {row[0]: row for row in await fetch(connection, _THESE, changes.conversation_id, array(wanted))}
        kept = [found[seq] for seq in wanted if seq in found]
        size += sum(len(row[3]) + _ROW_BYTES for row in kept)
        changes.messages += await messages.wires_of(connection, changes.conversation_id, kept)
    return taken


async def _read_members(connection: Connection, changes: Changes, now: State, limit: int) -> None:
    member_rev = changes.end.member_rev
    if member_rev < now.rev:
        fresh = changes.reset or changes.start is None
        asked = _MEMBERS if not now.crowd else _RANKED_NOW if fresh else _RANKED
        found = await fetch(connection, asked, changes.conversation_id, member_rev, limit + 1, now.rev)
        for row in found[:limit]:
            if row[3] is not None:
                if fresh:
                    continue  # who left before is no news to a fresh copy
                changes.departed[row[0]] = row[-2]
            if row[-1]:
                changes.members.append(rows.member(row))
        changes.more = len(found) > limit
        member_rev = (found[limit - 1][6] if limit else member_rev) if changes.more else now.rev
    changes.end = replace(changes.end, member_rev=member_rev)


async def _complete(connection: Connection, changes: Changes, *, own: bool) -> None:
    if own:
        changes.conversation = await conversations.show(connection, changes.conversation_id, None)
    changes.profiles = await profiles.read(connection, rows.people(changes.messages, changes.members))
