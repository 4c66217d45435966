"""Members' lists of conversations, newest activity first, in the memory of a process: a list of ten thousand costs what
has moved in it, and the page that is shown."""

from __future__ import annotations

from bisect import bisect_left, insort
from collections import OrderedDict
from collections.abc import Iterable, Sequence
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import AllPosition
from nestrel.live.moves import Moves
from nestrel.store.database import Database
from nestrel.store.read import conversations
from nestrel.store.read.conversations import Listed, ListPosition

_TRIES = 3
"""So many times others may bring on a list before it is read again instead."""


class _List:
    """The conversations of one member as of the snapshot `at`, or later: the newest at the end of `order`, those that
    are hidden nowhere in it."""

    __slots__ = ("at", "counted", "held", "order")

    def __init__(self, at: AllPosition, found: Sequence[Listed]) -> None:
        self.at = at
        self.counted = 0
        self.order = sorted(one.at for one in found if not one.hidden)
        self.held = {one.at.id: one for one in found}

    def touched(self, ids: Iterable[UUID], found: Sequence[Listed]) -> None:
        """Some conversations stand now where `found` says, and are the member's no more if it does not."""
        for id_ in ids:
            before = self.held.pop(id_, None)
            if before is not None and not before.hidden:
                del self.order[bisect_left(self.order, before.at)]
        for one in found:
            self.held[one.at.id] = one
            if not one.hidden:
                insort(self.order, one.at)


class Lists:
    """The lists that were asked for lately, within a bound of conversations that all of them hold; the one that was
    asked for longest ago goes. What has moved since a list was read comes from the process's moves; where those do not
    reach back, the list is read again."""

    def __init__(self, database: Database, moves: Moves, most: int = limits.LISTED) -> None:
        self._database = database
        self._moves = moves
        self._most = most
        self._lists: OrderedDict[str, _List] = OrderedDict()
        self._size = 0

    def forget(self) -> None:
        """The database has another history."""
        self._lists.clear()
        self._size = 0

    async def page(
        self, user_id: str, limit: int, after: ListPosition | None
    ) -> tuple[AllPosition, list[ListPosition], bool] | None:
        """A snapshot that is no older than the call, the places of a page of the list as it stood then or later, and
        whether there are more behind them; None for a list that is too long to be kept.

        Raises:
            StoreUnavailable: the database is away.
        """
        known = self._lists.get(user_id)
        list_ = await self._brought_on(user_id, known) if known is not None else None
        if list_ is None:
            now = await self._moves.read_on()
            async with self._database.read() as connection:
                found = await conversations.mine(connection, user_id, self._most)
            if found is None:
                return None
            list_ = _List(now, found)
        self._keep(user_id, list_)
        end = len(list_.order) if after is None else bisect_left(list_.order, after)
        begin = max(0, end - limit)
        return list_.at, list_.order[begin:end][::-1], begin > 0

    async def _brought_on(self, user_id: str, list_: _List) -> _List | None:
        for _ in range(_TRIES):
            start = list_.at
            # To look through more moves than twice its places costs more than to read it again.
            now, recent = await self._moves.since(start, max(limits.MOVES_PROBED, 2 * len(list_.held)))
            if recent is None:
                return None
            ids = {id_ for id_ in recent.moved if id_ in list_.held}
            ids.update(id_ for id_, who in recent.joined if who == user_id)
            found: list[Listed] = []
            if ids:
                async with self._database.read() as connection:
                    found = await conversations.mine_of(connection, user_id, list(ids))
            if list_.at is start:
                list_.touched(ids, found)
                list_.at = now
                return list_
            # Another request has brought it on meanwhile: what was found here may be older than what it put there.
        return None

    def _keep(self, user_id: str, list_: _List) -> None:
        before = self._lists.pop(user_id, None)
        if before is not None:
            self._size -= before.counted
        list_.counted = len(list_.held)
        self._size += list_.counted
        self._lists[user_id] = list_
        while self._size > self._most and len(self._lists) > 1:
            self._size -= self._lists.popitem(last=False)[1].counted
