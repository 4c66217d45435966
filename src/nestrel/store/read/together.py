"""Change sets of many conversations that have moved a little, in as many statements as one of them takes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from nestrel.core.cursors import ChangePosition
from nestrel.store import rows
from nestrel.store.native import Connection, array, fetch
from nestrel.store.read import conversations, messages, profiles
from nestrel.store.read.changes import Changes, State
from nestrel.store.rows import MEMBER_COLUMNS, MESSAGE_COLUMNS

# Nothing is bounded here but by the counters: each row of a change set moves `rev` by one at least.
_TOUCHED = """
SELECT i.id, m.seq, m.rev FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[], $4::text::bigint[])
     AS i (id, rev, floor, seq)
CROSS JOIN LATERAL (
    (SELECT seq, rev FROM nestrel.messages
     WHERE conversation_id = i.id AND changed AND rev > i.rev AND seq BETWEEN i.floor AND i.seq ORDER BY rev)
    UNION ALL
    (SELECT seq, rev FROM nestrel.reaction_counts
     WHERE conversation_id = i.id AND rev > i.rev AND seq BETWEEN i.floor AND i.seq ORDER BY rev)
) m
"""
_THESE = f"""
SELECT i.id, {rows.columns("m", MESSAGE_COLUMNS)}
FROM unnest($1::text::uuid[], $2::text::bigint[]) WITH ORDINALITY AS i (id, seq, n)
CROSS JOIN LATERAL (SELECT {MESSAGE_COLUMNS} FROM nestrel.messages
    WHERE conversation_id = i.id AND seq = i.seq LIMIT 1) m
"""
_NEW = f"""
SELECT i.id, {rows.columns("m", MESSAGE_COLUMNS)}
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::bigint[]) AS i (id, low, head)
CROSS JOIN LATERAL (SELECT {MESSAGE_COLUMNS} FROM nestrel.messages
    WHERE conversation_id = i.id AND seq BETWEEN i.low AND i.head ORDER BY seq) m
"""
# Of a crowd only those who rule or ruled it; of a fresh copy nobody who has left.
_MEMBERS = f"""
SELECT i.id, {rows.columns("m", MEMBER_COLUMNS)}
FROM unnest($1::text::uuid[], $2::text::bigint[], $3::text::boolean[], $4::text::boolean[])
     AS i (id, rev, crowd, fresh)
CROSS JOIN LATERAL (SELECT {MEMBER_COLUMNS} FROM nestrel.members
    WHERE conversation_id = i.id AND rev > i.rev AND (NOT i.crowd OR ranked) AND (NOT i.fresh OR left_at IS NULL)
    ORDER BY rev) m
"""


@dataclass(frozen=True, slots=True)
class Asked:
    """From where on a conversation is read up to its `state`; one that is `fresh` begins there, with `reset`."""

    start: ChangePosition
    state: State
    fresh: bool = False


async def read(connection: Connection, asked: Mapping[UUID, Asked]) -> dict[UUID, Changes]:
    """The whole change set of each. In a transaction of one snapshot, with states that were read in it: no row is
    newer than what counts it."""
    found = {
        id_: Changes(id_, one.start, one.state.position, one.state.head, one.state.floor, reset=one.fresh)
        for id_, one in asked.items()
    }
    if not found:
        return found
    await _messages(connection, found, asked)
    await _members(connection, found, asked)
    people, own = dict[UUID, set[str]](), list[UUID]()
    for id_, changes in found.items():
        one = asked[id_]
        people[id_] = rows.people(changes.messages, changes.members)
        if one.fresh or one.state.own_rev > min(one.start.rev, one.start.member_rev):
            own.append(id_)
    for id_, shown in (await conversations.show_some(connection, own)).items():
        found[id_].conversation = shown
    known = await profiles.read(connection, set().union(*people.values()))
    for id_, changes in found.items():
        changes.profiles = {user_id: known[user_id] for user_id in sorted(people[id_])}
    return found


async def _messages(connection: Connection, found: Mapping[UUID, Changes], asked: Mapping[UUID, Asked]) -> None:
    ids, all_ = array(list(found)), list(asked.values())
    touched = await fetch(
        connection, _TOUCHED, ids, array([one.start.rev for one in all_]), array([one.state.floor for one in all_]),
        array([min(one.start.seq, one.state.head) for one in all_]),
    )  # fmt: skip
    order = dict.fromkeys((row[0], row[1]) for row in sorted(touched, key=lambda row: int(row[2])))
    got: list[Sequence[Any]] = []
    if order:
        got += await fetch(connection, _THESE, array([one[0] for one in order]), array([one[1] for one in order]))
    lows = [max(one.start.seq + 1, one.state.floor) for one in all_]
    got += await fetch(connection, _NEW, ids, array(lows), array([one.state.head for one in all_]))
    for message, row in zip(await messages.wires(connection, [(row[0], row[1:]) for row in got]), got, strict=True):
        found[row[0]].messages.append(message)


async def _members(connection: Connection, found: Mapping[UUID, Changes], asked: Mapping[UUID, Asked]) -> None:
    all_ = list(asked.values())
    got = await fetch(
        connection, _MEMBERS, array(list(found)), array([one.start.member_rev for one in all_]),
        array([one.state.crowd for one in all_]), array([one.fresh for one in all_]),
    )  # fmt: skip
    for row in got:
        found[row[0]].members.append(rows.member(row[1:]))
