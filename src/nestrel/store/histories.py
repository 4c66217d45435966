"""What one process knows of the history of its database; `nestrel.store.epochs` finds it out."""

from __future__ import annotations

from nestrel.core.epochs import Lineage


class NewEpoch(Exception):
    """The database has another history than this process knows. `set_back` is the epoch that has ended, where nothing
    but a proof of it says so."""

    def __init__(self, set_back: int | None = None) -> None:
        super().__init__("the database has another history than before")
        self.set_back = set_back


class History:
    """What one process knows of the epochs of its database; shared by its connections. `changed` counts the times at
    which it met another one."""

    def __init__(self) -> None:
        self.lineage: Lineage | None = None
        self.changed = 0
        self.foreign: frozenset[int] = frozenset()
        """Transactions that are running and not this service's, as far as is known."""
        self.site: tuple[int, int] | None = None
        """The cluster and the database that it is of."""

    @property
    def known(self) -> Lineage:
        if self.lineage is None:
            raise NewEpoch
        return self.lineage

    def check(self, epoch: int | None) -> int:
        """The epoch that a statement has told. Raises `NewEpoch` if it is not the one that this process knows."""
        if epoch is None or self.lineage is None or epoch != self.lineage.present:
            raise NewEpoch
        return epoch

    def learn(self, lineage: Lineage, site: tuple[int, int]) -> None:
        """Go by what has been found out now."""
        if self.lineage is not None and lineage.present != self.lineage.present:
            self.changed += 1
            self.foreign = frozenset()
        self.lineage, self.site = lineage, site
