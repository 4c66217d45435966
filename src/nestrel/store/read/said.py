"""The messages of one person in all conversations that a reader may read, in the order of time. The order in a
conversation is an order in time, so the conversations are merged."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple

from nestrel.core.paging import MessagePosition
from nestrel.store import rows, rules
from nestrel.store.native import Connection, fetch
from nestrel.store.read import messages
from nestrel.store.rows import MESSAGE_COLUMNS, Wire

_PLACES = {
    True: "nestrel.conversations c WHERE c.closed_at IS NULL AND $1::text IS NOT NULL",
    False: """nestrel.members m JOIN nestrel.conversations c ON c.id = m.conversation_id
    WHERE m.user_id = $1 AND m.left_at IS NULL AND c.closed_at IS NULL""",
}


def _sql(*, every: bool, older: bool) -> str:
    """The next messages of one author from a position on. Where the position lies in a conversation is found by its
    time; those of that very moment are told apart by conversation and number."""
    bound, order, compare = (
        ("m.seq < nestrel.seq_at_v1(place.id, $3 + interval '1 microsecond')", "DESC", "<")
        if older
        else ("m.seq >= nestrel.seq_at_v1(place.id, $3)", "ASC", ">")
    )
    return f"""
SELECT place.id, {rows.columns("said", MESSAGE_COLUMNS)}
FROM (SELECT c.id, {rules.floor("c")} AS floor FROM {_PLACES[every]}) place
CROSS JOIN LATERAL (
    SELECT {MESSAGE_COLUMNS} FROM nestrel.messages m
    WHERE m.conversation_id = place.id AND m.author_id = $2 AND m.removed_at IS NULL AND m.seq >= place.floor
      AND ($3::timestamptz IS NULL
           OR ({bound} AND (m.created_at, m.conversation_id, m.seq) {compare} ($3, $4::uuid, $5)))
    ORDER BY m.seq {order} LIMIT $6) said
ORDER BY said.created_at {order}, place.id {order}, said.seq {order} LIMIT $6
"""


_SAID = {(every, older): _sql(every=every, older=older) for every in (True, False) for older in (True, False)}


class Page(NamedTuple):
    """Messages, with the positions of the first and the last, and whether there is more beyond the last."""

    items: list[Wire]
    first: MessagePosition | None
    last: MessagePosition | None
    more: bool


async def page(
    connection: Connection, viewer: str | None, author: str, limit: int, *, older: bool, after: MessagePosition | None
) -> Page:
    """Messages of an author that are no tombstones, newest first if `older`, else oldest first, from behind a
    position; in the viewer's own conversations, for None in all."""
    values = after or (None, None, None)
    found = await fetch(connection, _SAID[viewer is None, older], viewer or "", author, *values, limit + 1)
    kept = found[:limit]
    items = await messages.wires(connection, [(row[0], row[1:]) for row in kept])
    first, last = (_place(kept[0]), _place(kept[-1])) if kept else (None, None)
    return Page(items, first, last, len(found) > limit)


def _place(row: Sequence[Any]) -> MessagePosition:
    return MessagePosition(row[8], row[0], row[1])
