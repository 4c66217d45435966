"""What the live path reads. It is a seam: hub and followers also run on anything else that gives the store's
guarantees."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from collections.abc import Set as AbstractSet
from itertools import islice
from typing import NamedTuple, Protocol
from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.catching_up import most_rows, taken
from nestrel.core.cursors import AllPosition, ChangePosition
from nestrel.core.problems import Forbidden, NotFound
from nestrel.core.rights import Action
from nestrel.store import epochs, snapshots
from nestrel.store.access import see
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.read import catch_up, journal, members, resync, together
from nestrel.store.read import changes as feed
from nestrel.store.read.changes import Changes, State
from nestrel.store.read.journal import Tail
from nestrel.store.read.resync import Pending
from nestrel.store.read.together import ReadRequest


class Gone(NamedTuple):
    """The caller may not follow a conversation any more, and why: `left`, `removed` or `closed`."""

    reason: str


class Want(NamedTuple):
    """A conversation that somebody has up to `start`, and wants up to where the hub stands."""

    conversation_id: UUID
    start: ChangePosition | None
    upto: ChangePosition | None


class Mine(NamedTuple):
    """A member's conversations. Of those, what was `joined`, and beside them what has `ended`, in a transaction or
    behind it; each with its own, what has ended with the reason too."""

    ids: list[UUID]
    joined: list[tuple[UUID, int]]
    ended: list[tuple[UUID, str, int]]


class Source(Protocol):
    """Each may raise `StoreUnavailable`; each reads one state that is no older than the call."""

    async def states(self, conversation_ids: Sequence[UUID]) -> dict[UUID, State]:
        """The counters of conversations."""

    async def since(self, asked: Sequence[tuple[UUID, ChangePosition]], limit: int) -> Sequence[Changes | None]:
        """What changed in conversations behind where each stands, for everyone; see
        `nestrel.store.read.catch_up.since_each`."""

    async def departed(self, conversation_id: UUID, user_ids: Sequence[str]) -> dict[str, str]:
        """Those of the users who are members no more, each with the reason."""

    async def check(self, caller: Caller, conversation_id: UUID) -> None:
        """Raises `NotFound` or `Forbidden` for someone who may not follow a conversation."""

    async def catch_up(self, caller: Caller, wants: Sequence[Want], limit: int) -> dict[UUID, Changes | Gone]:
        """What changed, for one member, in the first of some conversations, as much as goes into one answer. Without a
        start, or from one that this history does not hold, it is the newest page."""

    async def mine(self, user_id: str) -> list[UUID]:
        """The member's conversations."""

    async def memberships(self, asked: Sequence[tuple[str, int]]) -> Sequence[Mine]:
        """The conversations of some users, each with the transaction from which on they want to hear of changes."""

    async def still(self, asked: Sequence[tuple[str, Sequence[UUID]]]) -> Sequence[AbstractSet[UUID]]:
        """Which of some conversations are each user's now."""

    async def begun(self, since: AllPosition, ids: Sequence[UUID]) -> dict[UUID, ChangePosition]:
        """Where a snapshot stood in some conversations; nothing of those that begin with their newest page."""

    async def moved(self, user_id: str, since: AllPosition) -> tuple[bool, list[Pending]]:
        """What moved of them since a snapshot, each with where its reader stood; without that for one that begins with
        its newest page. True, and all of them, where the snapshot is not one of this store."""

    async def tell_apart(self, running: Collection[int]) -> None:
        """Find out which of some transactions are not this store's; later snapshots wait for them no more."""

    async def tail(self, since: AllPosition | None) -> Tail:
        """A new snapshot, and what moved since; see `nestrel.store.read.journal.tail`."""


class StoreSource:
    """`Source` on PostgreSQL. `most` rows is the largest catch-up; beyond it the newest page comes instead."""

    def __init__(self, database: Database, most: int) -> None:
        self._database = database
        self._most = most

    async def states(self, conversation_ids: Sequence[UUID]) -> dict[UUID, State]:
        async with self._database.read() as connection:
            return await feed.states(connection, conversation_ids)

    async def since(self, asked: Sequence[tuple[UUID, ChangePosition]], limit: int) -> Sequence[Changes | None]:
        async with self._database.read() as connection:
            return await catch_up.since_each(connection, asked, limit)

    async def departed(self, conversation_id: UUID, user_ids: Sequence[str]) -> dict[str, str]:
        async with self._database.read() as connection:
            return await members.departed(connection, conversation_id, user_ids)

    async def check(self, caller: Caller, conversation_id: UUID) -> None:
        async with self._database.read() as connection:
            await see(connection, conversation_id, caller, Action.FOLLOW)

    async def catch_up(self, caller: Caller, wants: Sequence[Want], limit: int) -> dict[UUID, Changes | Gone]:
        result = dict[UUID, Changes | Gone]()
        async with self._database.read() as connection:
            states = await feed.states(connection, [one.conversation_id for one in wants])
            asked, needs = dict[UUID, ReadRequest](), list[int]()
            for id_, start, upto in wants:
                state = states.get(id_)
                if state is None or state.closed:
                    result[id_] = Gone("closed")
                    continue
                one = await catch_up.from_start(connection, id_, start, state, upto=upto, most=self._most, page=limit)
                asked[id_] = one
                needs.append(most_rows(one.start, one.state.counters))
            first = dict(islice(asked.items(), taken(needs, limit)))
            found = await together.read(connection, first, limit)
            # Looked at after the reading: whoever may follow now might when it was read.
            still = await resync.still(connection, caller.user_id, list(found))
            for id_, changes in found.items():
                result[id_] = changes if id_ in still else await self._seen(connection, caller, changes)
        return result

    async def _seen(self, connection: Connection, caller: Caller, changes: Changes) -> Changes | Gone:
        """What was read, for somebody who is no member, if they may see it."""
        try:
            await see(connection, changes.conversation_id, caller, Action.FOLLOW)
        except (NotFound, Forbidden):
            return Gone(await members.why_gone(connection, changes.conversation_id, caller.user_id))
        return changes

    async def mine(self, user_id: str) -> list[UUID]:
        found: list[UUID] = []
        async with self._database.read() as connection:
            while True:
                after = found[-1] if found else resync.NOTHING
                some = await resync.mine(connection, user_id, after=after)
                found += [one.id for one in some]
                if len(some) < resync.MANY:
                    return found

    async def memberships(self, asked: Sequence[tuple[str, int]]) -> Sequence[Mine]:
        async with self._database.read() as connection:
            return [Mine(*one) for one in await resync.memberships(connection, asked)]

    async def still(self, asked: Sequence[tuple[str, Sequence[UUID]]]) -> Sequence[AbstractSet[UUID]]:
        async with self._database.read() as connection:
            return await resync.still_of(connection, asked)

    async def begun(self, since: AllPosition, ids: Sequence[UUID]) -> dict[UUID, ChangePosition]:
        async with self._database.read() as connection:
            pending = await resync.begun(connection, since, [Pending(id_) for id_ in ids], self._most)
        return {one.id: one.start for one in pending if one.start is not None}

    async def moved(self, user_id: str, since: AllPosition) -> tuple[bool, list[Pending]]:
        async with self._database.read() as connection:
            from_nothing = not epochs.goes_on(connection, since, await snapshots.now(connection))
            pending: list[Pending] = []
            while True:
                after = pending[-1].id if pending else resync.NOTHING
                if from_nothing:
                    found = await resync.mine(connection, user_id, after=after)
                else:
                    _, found = await resync.moved(connection, user_id, since, after=after)
                pending += found
                if len(found) < resync.MANY:
                    break
            if not from_nothing:
                pending = await resync.begun(connection, since, pending, self._most)
            return from_nothing, pending

    async def tell_apart(self, running: Collection[int]) -> None:
        async with self._database.read() as connection:
            await snapshots.tell_apart(connection, running)

    async def tail(self, since: AllPosition | None) -> Tail:
        async with self._database.read() as connection:
            return await journal.tail(connection, since)
