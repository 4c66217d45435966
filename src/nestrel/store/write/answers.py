"""What a written batch answers, and what it sends to followers. Each object is made once."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.core.commands import Brought
from nestrel.core.locked import Locked, MemberState, MessageState
from nestrel.core.planning import Changed, Plan, Receipt, Taken
from nestrel.core.posting import Accepted, Refused, Repeated
from nestrel.core.problems import Problem
from nestrel.core.roles import RANKED
from nestrel.store import rows
from nestrel.store.native import Connection, array, fetch
from nestrel.store.read import messages, profiles, receipts
from nestrel.store.rows import MESSAGE_COLUMNS, Wire
from nestrel.store.write import facts
from nestrel.store.write.facts import BatchFacts

_REPEATS = f"""
SELECT {rows.columns("m", MESSAGE_COLUMNS)}
FROM unnest($1::text::uuid[], $2::text::bigint[]) WITH ORDINALITY AS i (conversation_id, seq, n)
JOIN nestrel.messages m ON m.conversation_id = i.conversation_id AND m.seq = i.seq
ORDER BY i.n
"""


_NOTHING = Brought()


@dataclass(slots=True)
class Growth:
    """What one transaction changed in one conversation: all its changes after `rev_before` up to `rev`.

    `followed` is False where nobody here followed the conversation when it was written: then the rows are not in it.
    """

    conversation_id: UUID
    rev_before: int
    head_before: int
    rev: int
    head: int
    floor: int
    followed: bool
    epoch: int
    messages: list[Wire] = field(default_factory=list)
    members: list[Wire] = field(default_factory=list)
    profiles: dict[str, Wire] = field(default_factory=dict)


class Written(NamedTuple):
    """The answer to one command: the message that it was about, or the receipt as it now stands. `new` tells a post
    from the repeat of an earlier one. Of an imported post it is no more than the `seq`; of one that was refused by
    itself the `refused` problem."""

    object: Wire
    new: bool = False


Answer = list[Written] | Problem


@dataclass(slots=True)
class Objects:
    """The objects that answers and change sets are made of, each made once; `posted` is in the order of the plan."""

    posted: list[Wire] = field(default_factory=list)
    repeated: dict[Repeated, Wire] = field(default_factory=dict)
    changed: dict[MessageState, Wire] = field(default_factory=dict)
    receipts: dict[MemberState, Wire] = field(default_factory=dict)


async def objects(connection: Connection, decided: Plan, shown: set[int]) -> Objects:
    made = Objects()
    names: dict[Locked, str] = {}
    for place, post, seq, rev, created_at, _, reply_to, attachments in decided.accepted:
        if post.imported and place.id.int not in shown:
            made.posted.append({"seq": seq})
            continue
        name = names.get(place)
        if name is None:
            name = names[place] = str(place.id)
        brought = post.brought or _NOTHING
        row = (seq, rev, post.author_id, post.body, post.format, post.attributes, reply_to, created_at,
               brought.edited_at, len(brought.earlier), post.removed_at, post.removed_by,
               list(post.mentions), attachments.packed)  # fmt: skip
        message = rows.message(name, row)
        if brought.reacted:
            message["reactions"] = [
                {"symbol": symbol, "count": len(by), "by": by[: limits.REACTION_NAMES]}
                for symbol, by in brought.marks().items()
            ]
        made.posted.append(message)
    others = [
        one for unit in decided.units if not isinstance(unit, Problem) for one in unit if not isinstance(one, Accepted)
    ]
    changes = {one.message: one.place for one in (*others, *decided.stale.values()) if isinstance(one, Changed)}
    if changes:
        await facts.read_marks(connection, {state: place.id for state, place in changes.items() if state.partial})
        made.changed = {state: _message(state, str(place.id)) for state, place in changes.items()}
    repeats = [one for one in others if isinstance(one, Repeated) and not one.imported]
    if repeats:
        ids, seqs = array([one.conversation_id for one in repeats]), array([one.seq for one in repeats])
        found = await fetch(connection, _REPEATS, ids, seqs)
        pairs = [(one.conversation_id, row) for one, row in zip(repeats, found, strict=True)]
        made.repeated = dict(zip(repeats, await messages.wires(connection, pairs), strict=True))
    reads = {one.member: one.place for one in others if isinstance(one, Receipt)}
    if reads:
        asked = [(place.id, member.user_id, member.read_seq) for member, place in reads.items()]
        for member, unread in zip(reads, await receipts.unread(connection, asked), strict=True):
            made.receipts[member] = {"read_seq": member.read_seq, "unread": unread}
    return made


def _message(state: MessageState, conversation_id: str) -> Wire:
    row = (state.seq, state.rev, state.author_id, state.body, state.format, state.attributes, state.reply_to,
           state.created_at, state.edited_at, state.edits, state.removed_at, state.removed_by,
           state.mentions, state.attachments)  # fmt: skip
    message = rows.message(conversation_id, row)
    message["reactions"] = [
        {"symbol": symbol, "count": marks.count, "by": list(marks.by)}
        for symbol, marks in state.reactions.items()
        if marks.count
    ]
    return message


async def growths(
    connection: Connection,
    decided: Plan,
    known: BatchFacts,
    objects: Objects,
    members: dict[UUID, list[Wire]],
    shown: set[int],
) -> dict[Locked, Growth]:
    grown: dict[Locked, Growth] = {}
    for place in (
        *(one.place for one in decided.accepted), *decided.changed.values(), *decided.receipts.values(),
    ):  # fmt: skip
        if place not in grown:
            grown[place] = Growth(
                place.id, place.rev_before, place.first_new - 1, place.rev, place.head, place.floor,
                place.id.int in shown, place.epoch, members=_carried(place, members.get(place.id, [])),
            )  # fmt: skip
    for state, place in decided.changed.items():
        if state.seq >= place.floor:
            grown[place].messages.append(objects.changed[state])
    for one, message in zip(decided.accepted, objects.posted, strict=True):
        growth = grown[one.place]
        if growth.followed and one.seq >= one.place.floor:
            growth.messages.append(message)
            author_id = one.post.author_id
            if author_id not in growth.profiles and author_id in known.profiles:
                growth.profiles[author_id] = rows.profile(author_id, *known.profiles[author_id])
    if decided.changed or decided.receipts or any(one.post.mentions for one in decided.accepted):
        await _add_profiles(connection, [growth for growth in grown.values() if growth.followed])
    return grown


def _carried(place: Locked, members: list[Wire]) -> list[Wire]:
    """The member rows that change sets carry."""
    return [one for one in members if one["role"] in RANKED] if place.crowd else members


async def _add_profiles(connection: Connection, growths: Sequence[Growth]) -> None:
    """The profiles of those whom messages and receipts name."""
    people = {growth.conversation_id: rows.people(growth.messages, growth.members) for growth in growths}
    found = await profiles.read(connection, {user_id for named in people.values() for user_id in named})
    for growth in growths:
        growth.profiles = {user_id: found[user_id] for user_id in sorted(people[growth.conversation_id])}


def answer(unit: Taken | Problem, objects: Objects, posted: Iterator[Wire]) -> Answer:
    if isinstance(unit, Problem):
        return unit
    given = []
    for one in unit:
        if isinstance(one, Accepted):
            given.append(Written(next(posted), new=True))
        elif isinstance(one, Repeated):
            given.append(Written(_repeated(one, objects)))
        elif isinstance(one, Refused):
            given.append(Written({"refused": one.problem}))
        elif isinstance(one, Changed):
            given.append(Written(objects.changed[one.message]))
        else:
            given.append(Written(objects.receipts[one.member]))
    return given


def _repeated(one: Repeated, objects: Objects) -> Wire:
    if one.imported:
        return {"seq": one.seq}
    message = objects.repeated[one]
    return {**message, "reactions": []} if one.outside else message
