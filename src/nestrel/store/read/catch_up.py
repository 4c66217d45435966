"""What a client at a position must be given, in one conversation or in several. All of it is read by the one reader of
change sets (`together`)."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from dataclasses import replace
from itertools import islice
from uuid import UUID

from nestrel.core import limits
from nestrel.core.catching_up import most_rows, new_messages, taken
from nestrel.core.cursors import ChangePosition
from nestrel.store.native import Connection, fetch
from nestrel.store.read.changes import Changes, State, states
from nestrel.store.read.together import ReadRequest, read

_CATCH_UP_COUNT = """
SELECT (SELECT count(*) FROM (SELECT 1 FROM nestrel.messages
            WHERE conversation_id = $1 AND changed AND rev > $2 AND seq >= $3 LIMIT $4) m)
     + (SELECT count(*) FROM (SELECT 1 FROM nestrel.reaction_counts
            WHERE conversation_id = $1 AND rev > $2 AND seq >= $3 LIMIT $4) c)
"""


async def from_start(
    connection: Connection, id_: UUID, start: ChangePosition | None, now: State, *,
    upto: ChangePosition | None = None, most: int | None = None, page: int = limits.PAGE_DEFAULT,
) -> ReadRequest:  # fmt: skip
    """What to ask for somebody who stands at `start`: no more than `upto`, and with the newest page where more than
    `most` messages have changed, or `start` is of a state that is lost."""
    if start is None or not connection.history.known.holds(start, now.begun):
        return ReadRequest(None, now, page=page)
    if most is not None and await _too_far(connection, id_, start, now, most):
        return ReadRequest(None, now, page=page)
    if upto is not None and upto.epoch == now.epoch and upto.rev < now.rev:
        now = replace(now, rev=upto.rev, head=upto.seq)
    return ReadRequest(start, now)


async def _too_far(connection: Connection, id_: UUID, start: ChangePosition, now: State, most: int) -> bool:
    """Whether a catch-up is too large; arithmetic for most, and else counted no further than `most`."""
    if now.rev - start.rev <= most:
        return False
    new = new_messages(start, now.counters)
    if new > most:
        return True
    [(changed,)] = await fetch(connection, _CATCH_UP_COUNT, id_, start.rev, now.floor, most - new + 1)
    return bool(new + changed > most)


async def since(
    connection: Connection, id_: UUID, start: ChangePosition, limit: int, *,
    upto: ChangePosition | None = None, most: int | None = None,
) -> Changes | None:  # fmt: skip
    """What changed in one conversation after `start`, at most `limit` rows; `more` if there is more, and `closed` if it
    is no more. None: there never was one. `upto` and `most` are as `from_start` has them."""
    now = (await states(connection, [id_])).get(id_)
    if now is None:
        return None
    if now.closed:
        return Changes(id_, start, now.position, now.head, now.floor, closed=True)
    page = min(limit, limits.PAGE_MOST)
    asked = await from_start(connection, id_, start, now, upto=upto, most=most, page=page)
    return (await read(connection, {id_: asked}, limit if asked.start is not None else page))[id_]


async def beginning(connection: Connection, id_: UUID, limit: int) -> Changes | None:
    """The first change set of all that is kept, at most `limit` rows; what is behind it follows from its position on.
    None: there never was such a conversation, or it is closed."""
    now = (await states(connection, [id_])).get(id_)
    if now is None or now.closed:
        return None
    return (await read(connection, {id_: ReadRequest(ChangePosition(0, 0, 0, now.epoch), now)}, limit))[id_]


async def since_each(
    connection: Connection, wanted: Sequence[tuple[UUID, ChangePosition]], limit: int
) -> list[Changes | None]:
    """What `since` answers, of each of some: in as many statements as one of them takes, where they have few rows."""
    now = await states(connection, [id_ for id_, _ in wanted])
    answers: list[Changes | None] = [None] * len(wanted)
    left = deque[tuple[int, ReadRequest]]()
    for n, (id_, start) in enumerate(wanted):
        state = now.get(id_)
        if state is not None and state.closed:
            answers[n] = Changes(id_, start, state.position, state.head, state.floor, closed=True)
        elif state is not None:
            page = min(limit, limits.PAGE_MOST)
            left.append((n, await from_start(connection, id_, start, state, page=page)))
    while left:
        some = dict[UUID, tuple[int, ReadRequest]]()
        for n, asked in left:
            if wanted[n][0] in some:
                break  # one that is asked for twice comes in another reading
            some[wanted[n][0]] = n, asked
        needs = [most_rows(asked.start, asked.state.counters) for _, asked in some.values()]
        first = dict(islice(some.items(), taken(needs, limit)))
        found = await read(connection, {id_: asked for id_, (_, asked) in first.items()}, limit)
        for k, (id_, changes) in enumerate(found.items()):
            if k and changes.more:
                break  # there was no room for all of it behind the others: alone it may be whole
            answers[first[id_][0]] = changes
            left.popleft()
    return answers


async def newest(connection: Connection, id_: UUID, limit: int, *, rows: int | None = None) -> Changes | None:
    """A first change set: the conversation and its newest `limit` messages, and members up to `rows` rows in all (by
    default `limit`); the other members follow from its position on. None where there is no conversation."""
    now = (await states(connection, [id_])).get(id_)
    if now is None or now.closed:
        return None
    return (await read(connection, {id_: ReadRequest(None, now, page=limit)}, rows or limit))[id_]
