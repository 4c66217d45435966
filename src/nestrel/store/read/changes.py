"""Change sets, and the counters by which they are read."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from uuid import UUID

from nestrel.core import limits
from nestrel.core.catching_up import Counters
from nestrel.core.cursors import ChangePosition
from nestrel.core.epochs import Begun
from nestrel.store import epochs, rows, rules
from nestrel.store.access import Access
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire

_CHANGES_STATES = f"""
SELECT {epochs.CURRENT}, id, rev, head, {rules.floor("c")}, own_rev, closed_at IS NOT NULL, epochs, begins, crowd,
       member_count, anew_rev
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
    members: int = 0

    @property
    def counters(self) -> Counters:
        """For the plan of a reading."""
        return Counters(self.rev, self.head, self.floor, 0 if self.crowd else self.members)

    @property
    def position(self) -> ChangePosition:
        return ChangePosition(self.rev, self.head, self.rev, self.epoch)


async def states(connection: Connection, conversation_ids: Sequence[UUID]) -> dict[UUID, State]:
    """The counters now; an id that never was a conversation is left out."""
    found = await fetch(connection, _CHANGES_STATES, list(conversation_ids))
    return {row[1]: _state(connection, *row) for row in found}


def _state(
    connection: Connection, present: int | None, _id: UUID, rev: int, head: int, floor: int, own_rev: int, closed: bool,
    in_epochs: Sequence[int], begins: Sequence[int], crowd: bool, members: int, anew: int,
) -> State:  # fmt: skip
    epoch = connection.history.check(present)
    return State(rev, head, floor, own_rev, closed, epoch, Begun(in_epochs, begins, rev, anew), crowd, members)


def position_of(access: Access) -> ChangePosition:
    """Where a client stands that holds everything which `access` saw."""
    return ChangePosition(access.rev, access.head, access.rev, access.epoch)
