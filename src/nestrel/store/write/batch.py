"""One transaction of the write path, for every door: lock, read, let `nestrel.core.planning` decide, write, tell."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from datetime import timedelta
from enum import Enum
from uuid import UUID

from nestrel.core.commands import Command, Post
from nestrel.core.locked import Locked
from nestrel.core.planning import Plan, plan
from nestrel.core.posting import Repeated
from nestrel.core.problems import Problem
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.write import answers, apply, facts
from nestrel.store.write.answers import Answer, Growth
from nestrel.store.write.facts import BatchFacts
from nestrel.store.write.memory import Author, Memory

Learned = list[tuple[Locked, Mapping[str, Author]]]
"""The conversations that a transaction moved, each with what is known of its authors once it has committed."""


class Held(Enum):
    """Stands for the answer of a unit that was not written, because somebody holds its conversation."""

    HELD = "held"


HELD = Held.HELD


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
    delivery. One that is not `patient` leaves units whose conversation somebody holds; only where somebody holds all of
    them does it wait, and not for long. What the
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
        soon = await facts.lock_soon(connection, ids)
        if soon is None:
            return [HELD for _ in units], [], []
        locked, held, free = soon, set(), units
    # Asked once: a follower that comes while this runs must find either all of it or nothing, and then reads it itself.
    shown = {number for number, id_ in places.items() if followed(id_)}
    decided, known = await _decide(connection, free, locked, shown, edit_window, None if careful else memory)
    if decided is None:
        mine = [id_ for id_ in ids if id_.int not in held]  # whose locks are held here: as they stood, and at once
        locked = await facts.lock(connection, mine)
        decided, known = await _decide(connection, free, locked, shown, edit_window, None)
        assert decided is not None
    given, growths, places_moved = await _carry_out(database, connection, decided, known, shown)
    if memory is not None and len(decided.accepted) < sum(map(len, free)):
        memory.doubt(_repeating(free, decided))
    learned = [(place, learned_of(place, known)) for place in places_moved]
    if not held:
        return given, growths, learned
    taken = iter(given)
    return [HELD if unit[0].conversation_id.int in held else next(taken) for unit in units], growths, learned


async def _decide(
    connection: Connection,
    units: Sequence[Sequence[Command]],
    locked: dict[int, Locked],
    shown: set[int],
    edit_window: timedelta | None,
    memory: Memory | None,
) -> tuple[Plan | None, BatchFacts]:
    """Plan a batch; no plan where a post is refused of which nobody has asked whether it is a repeat: what has landed
    is answered as such, whatever speaks against it now."""
    known = await facts.read(connection, [command for unit in units for command in unit], locked, shown, memory)
    assert known.now is not None
    decided = plan(units, known.facts, locked, known.now, edit_window)
    return None if known.trusted and _refused_unasked(units, decided, known) else decided, known


def _refused_unasked(units: Sequence[Sequence[Command]], decided: Plan, known: BatchFacts) -> bool:
    return any(
        isinstance(taken, Problem) and any(command in known.trusted for command in unit)
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


def learned_of(place: Locked, known: BatchFacts) -> Mapping[str, Author]:
    """What there is to remember of a conversation's authors when the batch is written."""
    number = place.id.int
    before, learned = known.authors.get(number, {}), known.learned.get(number, {})
    for user_id, ordinal in place.counts.items():
        author = learned.get(user_id) or before.get(user_id)
        if author is not None:
            learned[user_id] = Author(author.role, ordinal, author.profile)
    return learned


async def _carry_out(
    database: Database, connection: Connection, decided: Plan, known: BatchFacts, shown: set[int]
) -> tuple[list[Answer | Held], list[Growth], list[Locked]]:
    members = await apply.apply(database, connection, decided)
    objects = await answers.objects(connection, decided, shown)
    growths = await answers.growths(connection, decided, known, objects, members, shown)
    for problem, state in decided.stale.items():
        problem.extra["message"] = objects.changed[state.message]
    posted = iter(objects.posted)
    given: list[Answer | Held] = [answers.answer(unit, objects, posted) for unit in decided.units]
    return given, list(growths.values()), list(growths)
