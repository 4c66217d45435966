"""What a member finds who follows all of their conversations, from a cursor or from now on. When many come at once, as
after the end of a process, they share the questions to the store."""

from __future__ import annotations

from collections.abc import Sequence
from collections.abc import Set as AbstractSet
from typing import NamedTuple, Protocol
from uuid import UUID

from nestrel.core.cursors import AllPosition, ChangePosition
from nestrel.live.moves import Moves
from nestrel.live.sharing import Shared
from nestrel.live.source import Mine, Source

_TOGETHER = 200


class Ground(Protocol):
    """What is known of the hub: it has handed on all up to `since`, but of conversations that are `held`."""

    @property
    def since(self) -> AllPosition | None: ...

    @property
    def held(self) -> AbstractSet[UUID]: ...


class Back(NamedTuple):
    """`begun` has each conversation that moved, and where its reader stood; nothing for one that begins with its newest
    page. `ended` are no longer theirs, each with the reason. Whoever has been sent of each conversation up to the `rev`
    in `hold`, and all that is known of now, has everything up to `now`; None where that is not known here.
    `from_nothing`: the cursor is of a state that is not this store's."""

    now: AllPosition
    begun: dict[UUID, ChangePosition | None]
    ended: dict[UUID, str]
    hold: dict[UUID, int] | None
    from_nothing: bool = False


class Returns:
    """For one process."""

    def __init__(self, source: Source, moves: Moves, ground: Ground) -> None:
        self._source = source
        self._moves = moves
        self._ground = ground
        self._now = Shared[None, AllPosition](self._read_on, _TOGETHER)
        self._begun = Shared[tuple[AllPosition, list[UUID]], dict[UUID, ChangePosition]](self._all_begun, _TOGETHER)
        self._still = Shared[tuple[str, list[UUID]], AbstractSet[UUID]](lambda asked: source.still(asked), _TOGETHER)
        self._memberships = Shared[tuple[str, int], Mine](lambda asked: source.memberships(asked), _TOGETHER)

    async def now(self) -> AllPosition:
        """A snapshot that is no older than the call. Raises `StoreUnavailable`."""
        return await self._now(None)

    async def mine(self, user_id: str, since: AllPosition) -> Mine:
        """The member's conversations, and those that are theirs no more since a snapshot. Raises `StoreUnavailable`."""
        return await self._memberships((user_id, since.xmin))

    async def back(self, user_id: str, since: AllPosition, mine: Mine) -> Back:
        """To be asked when the hub follows what is `mine`: nothing that comes later is missed then. Raises
        `StoreUnavailable`."""
        now = await self._now(None)
        hold = self._hold(mine)
        moved = self._moves.of(since, mine.ids)
        if moved is None:
            from_nothing, pending = await self._source.moved(user_id, since)
            begun = {one.id: one.start for one in pending if one.gone is None}
            return Back(now, begun, {one.id: one.gone for one in pending if one.gone is not None}, hold, from_nothing)

        def unseen(transaction: int) -> bool:
            return transaction < now.xmax and not since.sees(transaction)

        begun = {id_: None for id_, transaction in mine.joined if unseen(transaction)}
        wanted = [id_ for id_ in moved if id_ not in begun]
        if wanted:
            found = await self._begun((since, wanted))
            begun |= {id_: found.get(id_) for id_ in wanted}
        if begun:
            # What is theirs was read before they were registered: who has left in between was told nothing of it. What
            # begins without a position is read from the store, which looks at that again.
            still = await self._still((user_id, list(begun)))
            begun = {id_: start if id_ in still else None for id_, start in begun.items()}
        return Back(now, begun, {id_: why for id_, why, transaction in mine.ended if unseen(transaction)}, hold)

    async def _read_on(self, asked: Sequence[None]) -> Sequence[AllPosition]:
        return [await self._moves.read_on()] * len(asked)

    async def _all_begun(self, asked: Sequence[tuple[AllPosition, list[UUID]]]) -> Sequence[dict[UUID, ChangePosition]]:
        """Where many stood: those who left at one moment have the same snapshot, and often the same conversations."""
        of = dict[AllPosition, dict[UUID, None]]()
        for since, ids in asked:
            of.setdefault(since, {}).update(dict.fromkeys(ids))
        found = {since: await self._source.begun(since, list(ids)) for since, ids in of.items()}
        return [found[since] for since, _ in asked]

    def _hold(self, mine: Mine) -> dict[UUID, int] | None:
        """What has moved since the last checkpoint, up to which the hub has handed on everything but what it says."""
        since, held = self._ground.since, self._ground.held
        if since is None or (held and not held.isdisjoint(mine.ids)):
            return None
        return self._moves.of(since, mine.ids)

    async def stop(self) -> None:
        await self._memberships.stop()
        await self._now.stop()
        await self._begun.stop()
        await self._still.stop()
