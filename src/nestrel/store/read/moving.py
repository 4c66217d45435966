"""What moved in the whole store since a snapshot: for those who follow everything and are never lost.

All of one reading is of one snapshot: whatever commits meanwhile comes with the next, and nothing comes twice. Only
what is too much for one reading is taken in parts, by conversation, and what moves in those that are done by then comes
once more with the round behind it.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from uuid import UUID

from nestrel.core import limits
from nestrel.core.catching_up import most_rows
from nestrel.core.cursors import AllPosition, ChangePosition, ResyncPosition
from nestrel.core.roles import Kind
from nestrel.store import epochs
from nestrel.store.native import Connection, fetch
from nestrel.store.read import catch_up, journal, starts, together
from nestrel.store.read import changes as feed
from nestrel.store.read.changes import Changes, State
from nestrel.store.read.journal import UNSEEN, Tail
from nestrel.store.read.resync import NOTHING
from nestrel.store.read.together import UNBOUNDED, ReadRequest

Position = AllPosition | ResyncPosition

_MANY = 800
"""Conversations that one reading looks at."""
_WALKED = 20_000
"""Those that it looks at where the journal does not reach back."""
_SMALL = 200
"""One that has moved by no more is read together with others."""

_WAITS = """
SELECT current_setting('synchronous_standby_names') <> ''
   AND current_setting('synchronous_commit') NOT IN ('off', 'local')
"""
_OF_KIND = "SELECT id FROM nestrel.conversations WHERE id = ANY($1::uuid[]) AND kind = $2 ORDER BY id"
_MOVING_WALK = f"""
SELECT id, {UNSEEN.format("moved_xid", "$3")}
FROM (SELECT id, moved_xid FROM nestrel.conversations WHERE id > $1 ORDER BY id LIMIT $2) c ORDER BY id
"""


@dataclass(frozen=True, slots=True)
class Item:
    """A change set, or a conversation that is no more; and where whoever has taken it stands."""

    conversation_id: UUID
    changes: Changes | None
    position: ResyncPosition


_REMEMBERED = 100_000


@dataclass(slots=True)
class ReaderProgress:
    """Of what a reader was told that began at a snapshot, or of everything where there is none; `of` are some of which
    that is known. All that was read for it here lies before `reached`; in the epoch `whole_in` nothing of that is lost.
    """

    since: AllPosition | None
    of: set[UUID] = field(default_factory=set)
    reached: AllPosition | None = None
    whole_in: int | None = None

    def learn(self, ids: Iterable[UUID]) -> None:
        """It has been told of these, or is about to be."""
        if len(self.of) >= _REMEMBERED:
            self.of.clear()
        self.of.update(ids)


@dataclass(slots=True)
class Moving:
    """One reading. Whoever has taken all of it stands at `position`; there is `more` if that is in the middle."""

    position: Position
    items: list[Item] = field(default_factory=list)
    more: bool = False


async def read(
    connection: Connection,
    at: Position,
    only: UUID | None,
    most: int,
    *,
    kind: Kind | None = None,
    silent: bool = False,
    told: ReaderProgress | None = None,
) -> Moving:
    """Read on from `at`, in a transaction of one snapshot: up to about `most` rows, of one conversation, of those of a
    kind, or of all; also of `silent` ones, in which nothing has been said yet, if these are wanted.

    One that had no message by then begins, with `reset`, at its first. Where the database was restored since, every one
    begins again; where a standby took over that had all of this, it goes on. With `told` whatever begins does so with
    all that is kept, and one of which its reader was told nothing begins as well; without, with its newest page."""
    since, after, within = (at.since, at.after, at.within) if isinstance(at, ResyncPosition) else (at, NOTHING, None)
    tail = await journal.tail(connection, since, joined=False)
    upto = at.upto if isinstance(at, ResyncPosition) else tail.now
    known, epoch = [one for one in (since, upto) if one is not None], tail.now.epoch
    if not all(epochs.goes_on(connection, one, tail.now) for one in known):
        # Also what was kept goes back with a restore: nobody knows what was sent behind it, and is lost.
        since, upto, after, within = None, tail.now, NOTHING, None
    elif any(one.epoch != epoch for one in known):
        since, upto = replace(since, epoch=epoch) if since is not None else None, replace(upto, epoch=epoch)
        if within is not None:  # of the history of before: this one is read again
            after, within = UUID(int=after.int - 1), None
        if told is not None and told.reached is not None and epochs.goes_on(connection, told.reached, tail.now):
            told.whole_in = epoch
    if told is not None:
        told.reached = tail.now
    here = ResyncPosition(since, upto, after, within)
    ids, last = await which(connection, here, only, tail)
    if kind is not None and ids:
        ids = [row[0] for row in await fetch(connection, _OF_KIND, ids, kind.value)]
    if within is not None:
        ids.insert(0, after)
    result = Moving(upto)
    if await _take(connection, result, here, ids[:_MANY], most, told, silent=silent):
        done = ids[_MANY - 1] if len(ids) > _MANY else last
        if done is not None:
            result.position, result.more = replace(here, after=done, within=None), True
    return result


async def which(
    connection: Connection, here: ResyncPosition, only: UUID | None, tail: Tail
) -> tuple[list[UUID], UUID | None]:
    """Conversations behind `here` that have moved, by id; and the last that was looked at, if there may be more."""
    if here.since is not None and tail.whole and tail.trimmed < here.since.xmin:
        return sorted({id_ for _, id_, _ in tail.moved if id_ > here.after and only in (None, id_)}), None
    if only is not None:
        return [only] if only > here.after else [], None
    since = here.since or AllPosition.beginning(here.upto.epoch)
    walked = await fetch(connection, _MOVING_WALK, here.after, _WALKED, since.snapshot)
    moved = [row[0] for row in walked if here.since is None or row[1]]
    return moved, walked[-1][0] if len(walked) == _WALKED else None


async def _take(
    connection: Connection,
    result: Moving,
    here: ResyncPosition,
    ids: Sequence[UUID],
    most: int,
    told: ReaderProgress | None,
    *,
    silent: bool,
) -> bool:
    """Read of some, in their order, as much as goes into `most` rows; whether that was all."""
    states = await feed.states(connection, ids)
    open_ = {id_: states[id_] for id_ in ids if id_ in states and not states[id_].closed}
    begun = await _begun(connection, here, open_, starts.SHALLOW, told)
    small, chosen, whole = dict[UUID, ReadRequest](), list[UUID](), True
    apart: UUID | None = None
    for id_ in ids:
        state, start = states.get(id_), begun.get(id_)
        if state is None or not (state.closed or state.head or silent):
            continue  # of one in which nothing was said yet nobody is told who has not asked for it
        if not state.closed:
            moved = most_rows(start, state.counters)
            if start is None or moved > _SMALL:
                apart = id_
                break
            if small and moved > most:
                whole = False
                break
            small[id_] = ReadRequest(start, state, fresh=start.seq == 0)
            most -= moved
        chosen.append(id_)
    found = await together.read(connection, small, UNBOUNDED, size=UNBOUNDED, item=UNBOUNDED)
    for id_ in chosen:
        if changes := found.get(id_):
            result.items += _in_parts(here, changes)
        elif states[id_].closed:
            result.items.append(Item(id_, None, replace(here, after=id_, within=None)))
    if apart is not None:
        # The rest comes with the next reading.
        start = (await _begun(connection, here, {apart: states[apart]}, UNBOUNDED, told)).get(apart)
        result.items += await _apart(connection, here, apart, start, max(most, 1))
    if whole and (apart is None or (apart == ids[-1] and result.items[-1].position.within is None)):
        return True
    result.position, result.more = result.items[-1].position if result.items else here, True
    return False


async def _begun(
    connection: Connection, here: ResyncPosition, states: Mapping[UUID, State], depth: int, told: ReaderProgress | None
) -> dict[UUID, ChangePosition]:
    """Where each stood, as far as is found; nothing of those that begin anew with their newest page."""
    known = dict[UUID, ChangePosition]()
    if here.within is not None and not (here.after in states and states[here.after].begun.outdated(here.within)):
        known = {here.after: here.within}
    if here.since is None:
        anew = {} if told is None else {id_: _beginning(state.epoch) for id_, state in states.items()}
        return anew | known
    found = await starts.found(connection, here.since, states, depth)
    outdated = {id_ for id_, at in found.items() if states[id_].begun.outdated(at)}
    if told is None:
        found = {id_: at for id_, at in found.items() if id_ not in outdated}
    untold = set() if told is None else await _untold(connection, told, states, found, depth)
    if told is not None and told.whole_in != here.upto.epoch:
        untold |= await _parted(connection, states, found)
    untold |= outdated
    return {id_: _beginning(at.epoch) if id_ in untold or not at.seq else at for id_, at in found.items()} | known


def _beginning(epoch: int) -> ChangePosition:
    return ChangePosition(0, 0, 0, epoch)


async def _untold(
    connection: Connection,
    told: ReaderProgress,
    states: Mapping[UUID, State],
    found: Mapping[UUID, ChangePosition],
    depth: int,
) -> set[UUID]:
    """Those in which nothing has moved between where the reader began and where it stands now, so that it was told of
    nothing in them."""
    if told.since is None:
        return set()
    asked = {id_: states[id_] for id_ in found if id_ not in told.of}
    before = await starts.found(connection, told.since, asked, depth)
    # Of one that is not found so far back more has moved since than since the place where the reader stands.
    untold = {id_ for id_, at in before.items() if (at.rev, at.seq) == (found[id_].rev, found[id_].seq)}
    told.learn(asked.keys() - untold)
    return untold


async def _parted(
    connection: Connection, states: Mapping[UUID, State], found: Mapping[UUID, ChangePosition]
) -> set[UUID]:
    """Those that were first written to since a standby took over: what their reader was told behind that may be lost,
    and other rows may have the same numbers now. Where every commit waits for a standby, nothing is."""
    if not connection.history.known.promoted:
        return set()
    crossing = {id_ for id_, at in found.items() if states[id_].begun.crossed(at.rev, at.epoch)}
    if crossing and (await fetch(connection, _WAITS))[0][0]:
        return set()
    return crossing


async def _apart(
    connection: Connection, here: ResyncPosition, id_: UUID, start: ChangePosition | None, most: int
) -> list[Item]:
    if start is not None:
        from_nothing = start.rev == 0
        changes = await (
            catch_up.beginning(connection, id_, most) if from_nothing
            else catch_up.since(connection, id_, start, most)
        )  # fmt: skip
        assert changes is not None  # in one snapshot with its state
        return list(_in_parts(here, changes.beginning() if start.seq == 0 else changes))
    rows = limits.PAGE_DEFAULT
    while (changes := await catch_up.newest(connection, id_, rows)) and changes.too_large(limits.WEBHOOK_ITEM_BYTES):
        rows = min(rows, changes.fewer()) - 1 or 1
    assert changes is not None
    return list(_in_parts(here, changes))


def _in_parts(here: ResyncPosition, changes: Changes) -> Iterator[Item]:
    """A change set in parts that go into one request each."""
    parts = changes.parts(limits.WEBHOOK_ITEM_BYTES)
    if changes.reset and len(parts) > 1:
        parts[0] = parts[0].beginning()
    for part in parts:
        within = part.end if part.more else None
        yield Item(part.conversation_id, part, replace(here, after=part.conversation_id, within=within))
