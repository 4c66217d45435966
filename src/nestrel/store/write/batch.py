"""One transaction of the write path, for every door: lock, read, let `nestrel.core.planning` decide, write, tell."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from enum import Enum
from typing import NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.core.commands import Brought, Command, Post
from nestrel.core.locked import Locked, MemberState, MessageState
from nestrel.core.planning import Changed, Plan, Receipt, Taken, plan
from nestrel.core.posting import Accepted, Refused, Repeated
from nestrel.core.problems import Problem
from nestrel.store import rows
from nestrel.store.database import Database
from nestrel.store.native import Connection, array, fetch
from nestrel.store.read import messages, profiles, receipts
from nestrel.store.rows import MESSAGE_COLUMNS, Wire
from nestrel.store.write import apply, facts
from nestrel.store.write.facts import Known
from nestrel.store.write.memory import Author, Memory

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

Learned = list[tuple[Locked, Mapping[str, Author]]]
"""The conversations that a transaction moved, each with what is known of its authors once it has committed."""


class Held(Enum):
    """Stands for the answer of a unit that was not written, because somebody holds its conversation."""

    HELD = "held"


HELD = Held.HELD


@dataclass(slots=True)
class _Objects:
    """The objects that answers and change sets are made of, each made once; `posted` is in the order of the plan."""

    posted: list[Wire] = field(default_factory=list)
    repeated: dict[Repeated, Wire] = field(default_factory=dict)
    changed: dict[MessageState, Wire] = field(default_factory=dict)
    receipts: dict[MemberState, Wire] = field(default_factory=dict)


async def write(
    database: Database,
    connection: Connection,
    units: Sequence[Sequence[Command]],
    followed: Callable[[UUID], bool],
    edit_window: timedelta | None = None,
    *,
    patient: bool = True,
    memory: Memory | None = None,
    careful: bool = False,
) -> tuple[list[Answer | Held], list[Growth], Learned]:
    """Write a batch in the caller's transaction; the commands of a unit are for one conversation. Answers come in the
    order of `units`; they hold once the transaction has committed. `followed` says whose rows are wanted for live
    delivery. One that is not `patient` waits for no lock, and leaves units whose conversation somebody holds. What the
    `memory` knows is not asked for, unless the batch is to be `careful`; what it shall know comes with the answers.

    Raises:
        asyncpg.UniqueViolationError: a key that was not asked for, as it seemed new, has been used (`constraints.KEY`).
    """
    places = {unit[0].conversation_id.int: unit[0].conversation_id for unit in units}
    ids = [places[number] for number in sorted(places)]
    locked, held = (
        (await facts.lock(connection, ids), set[int]()) if patient else await facts.lock_free(connection, ids)
    )
    free = [unit for unit in units if unit[0].conversation_id.int not in held] if held else units
    if not free:
        return [HELD for _ in units], [], []
    # Asked once: a follower that comes while this runs must find either all of it or nothing, and then reads it itself.
    shown = {number for number, id_ in places.items() if followed(id_)}
    decided, known = await _decide(connection, free, locked, shown, edit_window, None if careful else memory)
    if decided is None:
        mine = [id_ for id_ in ids if id_.int not in held]  # whose locks are held here: as they stood, and at once
        locked = await facts.lock(connection, mine)
        decided, known = await _decide(connection, free, locked, shown, edit_window, None)
        assert decided is not None
    answers, growths, places_moved = await _carry_out(database, connection, decided, known, shown)
    if memory is not None and len(decided.accepted) < sum(map(len, free)):
        memory.doubt(_repeating(free, decided))
    learned = [(place, _learned(place, known)) for place in places_moved]
    if not held:
        return answers, growths, learned
    taken = iter(answers)
    return [HELD if unit[0].conversation_id.int in held else next(taken) for unit in units], growths, learned


async def _decide(
    connection: Connection,
    units: Sequence[Sequence[Command]],
    locked: dict[int, Locked],
    shown: set[int],
    edit_window: timedelta | None,
    memory: Memory | None,
) -> tuple[Plan | None, Known]:
    """Plan a batch; no plan where a post is refused of which nobody has asked whether it is a repeat: what has landed
    is answered as such, whatever speaks against it now."""
    known = await facts.read(connection, [command for unit in units for command in unit], locked, shown, memory)
    assert known.now is not None
    decided = plan(units, known.facts, locked, known.now, edit_window)
    return None if known.trusted and _refused_unasked(units, decided, known) else decided, known


def _refused_unasked(units: Sequence[Sequence[Command]], decided: Plan, known: Known) -> bool:
    return any(
        isinstance(taken, Problem) and any(id(command) in known.trusted for command in unit)
        for unit, taken in zip(units, decided.units, strict=True)
    )


def _repeating(units: Sequence[Sequence[Command]], decided: Plan) -> set[str]:
    """Who has used a key again."""
    return {
        command.author_id
        for unit, taken in zip(units, decided.units, strict=True)
        if not isinstance(taken, Problem) and isinstance(unit[0], Post)
        for command, one in zip(unit, taken, strict=True)
        if isinstance(one, Repeated) and isinstance(command, Post)
    }


def _learned(place: Locked, known: Known) -> Mapping[str, Author]:
    """What there is to remember of a conversation's authors when the batch is written."""
    number = place.id.int
    before, learned = known.authors.get(number, {}), known.learned.get(number, {})
    for user_id, ordinal in place.counts.items():
        author = learned.get(user_id) or before.get(user_id)
        if author is not None:
            learned[user_id] = Author(author.role, ordinal, author.profile)
    return learned


async def _carry_out(
    database: Database, connection: Connection, decided: Plan, known: Known, shown: set[int]
) -> tuple[list[Answer | Held], list[Growth], list[Locked]]:
    members = await apply.apply(database, connection, decided)
    objects = await _objects(connection, decided, shown)
    growths = await _growths(connection, decided, known, objects, members, shown)
    for problem, state in decided.stale.items():
        problem.extra["message"] = objects.changed[state.message]
    posted = iter(objects.posted)
    answers: list[Answer | Held] = [_answer(unit, objects, posted) for unit in decided.units]
    return answers, list(growths.values()), list(growths)


async def _objects(connection: Connection, decided: Plan, shown: set[int]) -> _Objects:
    objects = _Objects()
    names: dict[Locked, str] = {}
    for place, post, seq, rev, created_at, _, reply_to in decided.accepted:
        if post.imported and place.id.int not in shown:
            objects.posted.append({"seq": seq})
            continue
        name = names.get(place)
        if name is None:
            name = names[place] = str(place.id)
        brought = post.brought or _NOTHING
        row = (seq, rev, post.author_id, post.body, post.format, post.attributes, reply_to, created_at,
               brought.edited_at, len(brought.earlier), post.removed_at, post.removed_by)  # fmt: skip
        message = rows.message(name, row)
        if brought.reacted:
            message["reactions"] = [
                {"symbol": symbol, "count": len(by), "by": by[: limits.REACTION_NAMES]}
                for symbol, by in brought.marks().items()
            ]
        objects.posted.append(message)
    others = [
        one for unit in decided.units if not isinstance(unit, Problem) for one in unit if not isinstance(one, Accepted)
    ]
    changes = {one.message: one.place for one in (*others, *decided.stale.values()) if isinstance(one, Changed)}
    if changes:
        await facts.read_marks(connection, {state: place.id for state, place in changes.items() if state.partial})
        objects.changed = {state: _message(state, str(place.id)) for state, place in changes.items()}
    repeats = [one for one in others if isinstance(one, Repeated) and not one.imported]
    if repeats:
        ids, seqs = array([one.conversation_id for one in repeats]), array([one.seq for one in repeats])
        found = await fetch(connection, _REPEATS, ids, seqs)
        pairs = [(one.conversation_id, row) for one, row in zip(repeats, found, strict=True)]
        objects.repeated = dict(zip(repeats, await messages.wires(connection, pairs), strict=True))
    reads = {one.member: one.place for one in others if isinstance(one, Receipt)}
    if reads:
        asked = [(place.id, member.user_id, member.read_seq) for member, place in reads.items()]
        for member, unread in zip(reads, await receipts.unread(connection, asked), strict=True):
            objects.receipts[member] = {"read_seq": member.read_seq, "unread": unread}
    return objects


def _message(state: MessageState, conversation_id: str) -> Wire:
    row = (state.seq, state.rev, state.author_id, state.body, state.format, state.attributes, state.reply_to,
           state.created_at, state.edited_at, state.edits, state.removed_at, state.removed_by)  # fmt: skip
    message = rows.message(conversation_id, row)
    message["reactions"] = [
        {"symbol": symbol, "count": marks.count, "by": list(marks.by)}
        for symbol, marks in state.reactions.items()
        if marks.count
    ]
    return message


async def _growths(
    connection: Connection,
    decided: Plan,
    known: Known,
    objects: _Objects,
    members: dict[UUID, list[Wire]],
    shown: set[int],
) -> dict[Locked, Growth]:
    growths: dict[Locked, Growth] = {}
    for place in (
        *(one.place for one in decided.accepted), *decided.changed.values(), *decided.receipts.values(),
    ):  # fmt: skip
        if place not in growths:
            growths[place] = Growth(
                place.id, place.rev_before, place.first_new - 1, place.rev, place.head, place.floor,
                place.id.int in shown, place.epoch, members=members.get(place.id, []),
            )  # fmt: skip
    for state, place in decided.changed.items():
        if state.seq >= place.floor:
            growths[place].messages.append(objects.changed[state])
    for one, message in zip(decided.accepted, objects.posted, strict=True):
        growth = growths[one.place]
        if growth.followed and one.seq >= one.place.floor:
            growth.messages.append(message)
            author_id = one.post.author_id
            if author_id not in growth.profiles and author_id in known.profiles:
                growth.profiles[author_id] = rows.profile(author_id, *known.profiles[author_id])
    if decided.changed or decided.receipts:
        await _add_profiles(connection, [growth for growth in growths.values() if growth.followed])
    return growths


async def _add_profiles(connection: Connection, growths: Sequence[Growth]) -> None:
    """The profiles of those whom changed messages and receipts name."""
    people = {growth.conversation_id: rows.people(growth.messages, growth.members) for growth in growths}
    found = await profiles.read(connection, {user_id for named in people.values() for user_id in named})
    for growth in growths:
        growth.profiles = {user_id: found[user_id] for user_id in sorted(people[growth.conversation_id])}


def _answer(unit: Taken | Problem, objects: _Objects, posted: Iterator[Wire]) -> Answer:
    if isinstance(unit, Problem):
        return unit
    answers = []
    for one in unit:
        if isinstance(one, Accepted):
            answers.append(Written(next(posted), new=True))
        elif isinstance(one, Repeated):
            answers.append(Written(_repeated(one, objects)))
        elif isinstance(one, Refused):
            answers.append(Written({"refused": one.problem}))
        elif isinstance(one, Changed):
            answers.append(Written(objects.changed[one.message]))
        else:
            answers.append(Written(objects.receipts[one.member]))
    return answers


def _repeated(one: Repeated, objects: _Objects) -> Wire:
    if one.imported:
        return {"seq": one.seq}
    message = objects.repeated[one]
    return {**message, "reactions": []} if one.outside else message
