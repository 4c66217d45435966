"""What changed in a conversation after a position: the tables are their own change feed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import ChangePosition
from nestrel.store import conversations, messages, profiles, rows, rules
from nestrel.store.access import Access
from nestrel.store.native import Connection, array, fetch
from nestrel.store.rows import MEMBER_COLUMNS, MESSAGE_COLUMNS, Wire

# A message has changed when its row has, or its reactions have.
_CHANGED = """
(SELECT rev, seq FROM messages
 WHERE conversation_id = $1 AND changed AND rev > $2 AND rev <= $6 AND seq BETWEEN $3 AND $4 ORDER BY rev LIMIT $5)
UNION ALL
(SELECT rev, seq FROM reaction_counts
 WHERE conversation_id = $1 AND rev > $2 AND rev <= $6 AND seq BETWEEN $3 AND $4 ORDER BY rev LIMIT $5)
"""
_THESE = f"SELECT {MESSAGE_COLUMNS} FROM messages WHERE conversation_id = $1 AND seq = ANY($2::text::bigint[])"
_NEW = f"""
SELECT {MESSAGE_COLUMNS} FROM messages WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3 ORDER BY seq LIMIT $4
"""
_NEWEST = f"""
SELECT {MESSAGE_COLUMNS} FROM messages WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3 ORDER BY seq DESC LIMIT $4
"""
_MEMBERS = f"""
SELECT {MEMBER_COLUMNS}, left_reason FROM members
WHERE conversation_id = $1 AND rev > $2 AND rev <= $4 ORDER BY rev LIMIT $3
"""
_COUNT = """
SELECT (SELECT count(*) FROM (SELECT 1 FROM messages
            WHERE conversation_id = $1 AND changed AND rev > $2 AND seq >= $3 LIMIT $4) m)
     + (SELECT count(*) FROM (SELECT 1 FROM reaction_counts
            WHERE conversation_id = $1 AND rev > $2 AND seq >= $3 LIMIT $4) c)
"""
_STATES = f"""
SELECT id, rev, head, {rules.floor("c")}, own_rev, closed_at IS NOT NULL FROM conversations c WHERE id = ANY($1::uuid[])
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

    def tail(self) -> str:
        """All of the JSON object behind `base` and `cursor`, which differ for each reader; written once for all."""
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
        return packed[1:].decode()


@dataclass(frozen=True, slots=True)
class State:
    """A conversation's counters at one moment."""

    rev: int
    head: int
    floor: int
    own_rev: int
    closed: bool

    @property
    def position(self) -> ChangePosition:
        return ChangePosition(self.rev, self.head, self.rev)


async def states(connection: Connection, conversation_ids: Sequence[UUID]) -> dict[UUID, State]:
    """The counters now; an id that never was a conversation is left out."""
    found = await fetch(connection, _STATES, list(conversation_ids))
    return {row[0]: State(*row[1:]) for row in found}


def position_of(access: Access) -> ChangePosition:
    """Where a client stands that holds everything which `access` saw."""
    return ChangePosition(access.rev, access.head, access.rev)


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
    if most is not None and await _too_far(connection, conversation_id, start, now, most):
        return await newest(connection, conversation_id, min(limit, limits.PAGE_MOST))
    if upto is not None and upto.rev < now.rev:
        now = replace(now, rev=upto.rev, head=upto.seq)
        changes.head = now.head
    await _read_rows(connection, changes, start, now, limit)
    await _complete(connection, changes, own=now.own_rev > min(start.rev, start.member_rev))
    return changes


async def _too_far(connection: Connection, conversation_id: UUID, start: ChangePosition, now: State, most: int) -> bool:
    """Whether a catch-up is too large; arithmetic for most, and else counted no further than `most`."""
    if start.rev > now.rev or start.seq > now.head:
        return True  # the store was set back to an earlier state
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
    found = await fetch(connection, _NEWEST, conversation_id, now.floor, now.head, limit)
    end = ChangePosition(now.rev, now.head, 0)
    changes = Changes(conversation_id, None, end, now.head, now.floor, reset=True)
    changes.messages = await messages.wires_of(connection, conversation_id, found[::-1])
    await _read_members(connection, changes, now, (rows or limit) - len(changes.messages))
    await _complete(connection, changes, own=True)
    return changes


async def _read_rows(connection: Connection, changes: Changes, start: ChangePosition, now: State, limit: int) -> None:
    rev, seq = start.rev, min(start.seq, now.head)
    if rev < now.rev:
        touched = await fetch(connection, _CHANGED, changes.conversation_id, rev, now.floor, seq, limit + 1, now.rev)
        moves = sorted((row[0], row[1]) for row in touched)
        changes.more = len(moves) > limit
        changes.messages += await _these(connection, changes.conversation_id, [one[1] for one in moves[:limit]])
        rev = moves[limit - 1][0] if changes.more else now.rev
    limit -= len(changes.messages)
    if not changes.more and seq < now.head:
        low = max(seq + 1, now.floor)
        new = await fetch(connection, _NEW, changes.conversation_id, low, now.head, limit + 1)
        changes.messages += await messages.wires_of(connection, changes.conversation_id, new[:limit])
        changes.more = len(new) > limit
        seq = low + limit - 1 if changes.more else now.head
        limit -= len(new[:limit])
    changes.end = ChangePosition(rev, seq, start.member_rev)
    if not changes.more:
        await _read_members(connection, changes, now, limit)


async def _these(connection: Connection, conversation_id: UUID, seqs: Sequence[int]) -> list[Wire]:
    """Messages in the order in which they were first touched, each once."""
    wanted = list(dict.fromkeys(seqs))
    if not wanted:
        return []
    found = {row[0]: row for row in await fetch(connection, _THESE, conversation_id, array(wanted))}
    return await messages.wires_of(connection, conversation_id, [found[seq] for seq in wanted if seq in found])


async def _read_members(connection: Connection, changes: Changes, now: State, limit: int) -> None:
    member_rev = changes.end.member_rev
    if member_rev < now.rev:
        found = await fetch(connection, _MEMBERS, changes.conversation_id, member_rev, limit + 1, now.rev)
        for row in found[:limit]:
            if row[3] is not None:
                if changes.reset or changes.start is None:
                    continue  # who left before is no news to a fresh copy
                changes.departed[row[0]] = row[-1]
            changes.members.append(rows.member(row))
        changes.more = len(found) > limit
        member_rev = (found[limit - 1][6] if limit else member_rev) if changes.more else now.rev
    changes.end = ChangePosition(changes.end.rev, changes.end.seq, member_rev)


async def _complete(connection: Connection, changes: Changes, *, own: bool) -> None:
    if own:
        changes.conversation = await conversations.show(connection, changes.conversation_id, None)
    changes.profiles = await profiles.read(connection, rows.people(changes.messages, changes.members))
