"""The write path's decisions on a batch of commands of any kind.

`plan` is given what the store read under the conversations' locks and answers what the store shall write. It knows no
SQL and no clock.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from itertools import islice
from typing import Any, NamedTuple

from nestrel.core.attachments import NONE_BORNE, Borne
from nestrel.core.changing import decide_change, decide_read
from nestrel.core.commands import Command, Post, Read
from nestrel.core.locked import Locked, MemberState, MessageState
from nestrel.core.posting import Accepted, PostFacts, Refused, Repeated, decide_posts
from nestrel.core.problems import Problem, StaleEdit
from nestrel.core.rights import no_conversation
from nestrel.core.roles import Role


def _none() -> Iterator[Any]:
    return iter(())


@dataclass(slots=True)
class Facts:
    """What the store knows about each command of a batch, kind by kind and in order. Commands on one message, or of
    one member's receipt, share its state. `strangers` are those whom a post or an edit names and who are no members,
    `attachments` what there is of those that it wants; both by the command."""

    posts: Iterator[PostFacts] = field(default_factory=_none)
    changes: Iterator[tuple[Role | None, MessageState | None]] = field(default_factory=_none)
    reads: Iterator[tuple[Role | None, MemberState | None]] = field(default_factory=_none)
    strangers: Mapping[Command, Sequence[str]] = field(default_factory=dict)
    attachments: Mapping[Command, Borne] = field(default_factory=dict)


class Changed(NamedTuple):
    """The message that a command was about, as the batch leaves it."""

    place: Locked
    message: MessageState


class Receipt(NamedTuple):
    """The receipt of the member who read, as the batch leaves it."""

    place: Locked
    member: MemberState


Taken = Sequence[Accepted | Repeated | Refused | Changed | Receipt]


@dataclass(slots=True)
class Plan:
    """`units` has one entry for each unit, and `stale` the message that each stale edit shall show; the rest is all
    that is to be written, each message and member once."""

    units: list[Taken | Problem] = field(default_factory=list)
    stale: dict[StaleEdit, Changed] = field(default_factory=dict)
    accepted: list[Accepted] = field(default_factory=list)
    changed: dict[MessageState, Locked] = field(default_factory=dict)
    receipts: dict[MemberState, Locked] = field(default_factory=dict)


def plan(
    units: Sequence[Sequence[Command]],
    facts: Facts,
    locked: dict[int, Locked],
    now: datetime,
    edit_window: timedelta | None = None,
) -> Plan:
    """Decide a batch in order. A unit is one command, or a list of posts for one conversation that is taken whole or
    not at all. Conversations go by the number of their ids."""
    result = Plan()
    for unit in units:
        place = locked.get(unit[0].conversation_id.int)
        try:
            taken = _decide(result, place, unit, facts, now, edit_window)
        except Problem as problem:
            result.units.append(problem)
            continue
        result.units.append(taken)
        if isinstance(taken, Problem):
            continue
        for one in taken:
            if isinstance(one, Accepted):
                result.accepted.append(one)
            elif isinstance(one, Changed) and one.message.changed:
                result.changed[one.message] = one.place
            elif isinstance(one, Receipt) and one.member.rev is not None:
                result.receipts[one.member] = one.place
    return result


def _decide(
    result: Plan,
    place: Locked | None,
    unit: Sequence[Command],
    facts: Facts,
    now: datetime,
    edit_window: timedelta | None,
) -> Taken | Problem:
    command = unit[0]
    if isinstance(command, Post):
        posts = [one for one in unit if isinstance(one, Post)]
        known = list(islice(facts.posts, len(posts)))
        return decide_posts(_open(place, command), posts, known, now)
    if isinstance(command, Read):
        role, member = next(facts.reads)
        here = _open(place, command)
        return [Receipt(here, decide_read(here, command, member, role, now))]
    role, message = next(facts.changes)
    here = _open(place, command)
    strangers = facts.strangers.get(command, ())
    attached = facts.attachments.get(command, NONE_BORNE)
    try:
        return [Changed(here, decide_change(here, command, message, role, now, edit_window, strangers, attached))]
    except StaleEdit as problem:
        assert message is not None
        result.stale[problem] = Changed(here, message)
        raise


def _open(place: Locked | None, command: Command) -> Locked:
    if place is None or place.closed:
        raise no_conversation(command.conversation_id)
    return place
