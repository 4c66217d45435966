"""Epochs: what tells one history of the database from another after a restore or a failover.

Numbers that were given out in a history that is lost are given out again, for other things. So each cursor says in
which epoch it was made, and here it is decided whether the present history still holds what the cursor speaks of.
Whatever cannot be told is not held: its client begins anew.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nestrel.core.cursors import AllPosition, ChangePosition

BEGINS_KEPT = 8
"""How many epochs a conversation's row remembers, newest first."""


@dataclass(frozen=True, slots=True)
class Epoch:
    """One epoch. `branch` is the position in the write-ahead log up to which it shares the history of the one before
    it; None where that cannot be told, as after a restore."""

    id: int
    branch: int | None = None


@dataclass(frozen=True, slots=True)
class Begun:
    """The epochs in which a conversation was written to, newest first, each with the `rev` at which it stood before
    its first change there; and the `rev` at which it stands now. Whoever stands before `anew` begins anew: what was
    taken away there, as the id of somebody who was erased, no row says."""

    epochs: Sequence[int]
    begins: Sequence[int]
    rev: int
    anew: int = 0

    def outdated(self, at: ChangePosition) -> bool:
        """Whether a position is of before that."""
        return at.rev < self.anew

    def crossed(self, rev: int, present: int) -> bool:
        """Whether it was written to in an earlier epoch, and then in the present one, which began behind `rev`."""
        return len(self.epochs) > 1 and self.epochs[0] == present and rev <= self.begins[0]


class Lineage:
    """The epochs of one database, oldest first; the last one is the present."""

    def __init__(self, epochs: Sequence[Epoch]) -> None:
        self._epochs = list(epochs)
        self._order = {epoch.id: n for n, epoch in enumerate(self._epochs)}

    @property
    def present(self) -> int:
        return self._epochs[-1].id

    @property
    def promoted(self) -> bool:
        """Whether the present epoch began with a promotion, of which it is known where it left the one before."""
        return self._epochs[-1].branch is not None

    def __contains__(self, epoch: int) -> bool:
        return epoch in self._order

    def goes_on(self, at: AllPosition, now: AllPosition) -> bool:
        """Whether everything that an all cursor has seen is still there, so that it can be resumed from. `now` is a
        present one."""
        nth = self._order.get(at.epoch)
        if nth is None:
            return False
        later = self._epochs[nth + 1 :]
        if not later:
            return not self.set_back(at, now)
        return all(epoch.branch is not None and at.lsn <= epoch.branch for epoch in later)

    def set_back(self, at: AllPosition, now: AllPosition) -> bool:
        """Whether a cursor of the present epoch comes from later than now: proof that the database was set back
        to an earlier state, with nobody having said so."""
        return at.epoch == now.epoch == self.present and (at.lsn > now.lsn or at.xmax > now.xmax)

    def holds(self, at: ChangePosition, row: Begun) -> bool:
        """Whether a conversation still holds everything up to a position in it."""
        nth = self._order.get(at.epoch)
        if nth is None or row.outdated(at):
            return False
        bound = row.rev
        for epoch, begin in zip(row.epochs, row.begins, strict=True):
            if self._order.get(epoch, len(self._epochs)) <= nth:
                break  # written to in the cursor's own epoch, or before it: no earlier begin bears on it
            bound = begin
        else:
            if len(row.epochs) >= BEGINS_KEPT:
                return False  # what it remembers may not reach back that far
        return max(at.rev, at.member_rev) <= bound
