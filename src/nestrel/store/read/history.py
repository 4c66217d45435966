"""Pages of history by keyset on the primary key: the millionth page costs what the first does."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

from nestrel.core.paging import HistoryQuery, Window
from nestrel.store.access import Access
from nestrel.store.native import Connection, fetch
from nestrel.store.read import messages
from nestrel.store.rows import MESSAGE_COLUMNS, Wire

_HISTORY_ONE = f"SELECT {MESSAGE_COLUMNS} FROM nestrel.messages WHERE conversation_id = $1 AND seq = $2"
_RANGE = f"SELECT {MESSAGE_COLUMNS} FROM nestrel.messages WHERE conversation_id = $1 AND seq BETWEEN $2 AND $3"
_OLDER = f"{_RANGE} ORDER BY seq DESC LIMIT $4"
_NEWER = f"{_RANGE} ORDER BY seq LIMIT $4"
_OLDER_BY = f"{_RANGE} AND author_id = $5 ORDER BY seq DESC LIMIT $4"
_NEWER_BY = f"{_RANGE} AND author_id = $5 ORDER BY seq LIMIT $4"

_STOOD_STILL = """
SELECT rev = $2 AND cardinality($3::text[]) = (
    SELECT count(*) FROM nestrel.members WHERE conversation_id = $1 AND user_id = ANY($3::text[])
) FROM nestrel.conversations WHERE id = $1
"""


@dataclass(frozen=True, slots=True)
class Page:
    """Messages by falling or rising `seq` as asked, and whether there is more on either side of what it covers, from
    `lowest` to `highest`."""

    items: list[Wire]
    lowest: int
    highest: int
    older: bool
    newer: bool


async def one(connection: Connection, conversation_id: UUID, seq: int) -> Wire | None:
    """One message, whether kept by the rule or not: the floor is the caller's business."""
    found = await fetch(connection, _HISTORY_ONE, conversation_id, seq)
    return (await messages.wires_of(connection, conversation_id, found))[0] if found else None


async def seq_at(connection: Connection, conversation_id: UUID, moment: datetime) -> int:
    """The lowest kept `seq` written at or after a moment; head + 1 if none is."""
    found = await fetch(connection, "SELECT nestrel.seq_at_v1($1, $2)", conversation_id, moment)
    return int(found[0][0])


async def read(connection: Connection, access: Access, query: HistoryQuery) -> Page:
    """One page for a conversation that the caller may see, as of the `head` that `access` saw."""
    low, high = access.floor, access.head
    if query.since is not None:
        low = max(low, await seq_at(connection, access.id, query.since))
    if query.until is not None:
        high = min(high, await seq_at(connection, access.id, query.until) - 1)
    window = Window(low, high, query)
    found: list[Sequence[Any]] = []
    more_older = more_newer = None
    for part in window.parts():
        part_rows = await _scan(connection, access.id, part.low, part.high, query.author, part.older, part.limit + 1)
        more = len(part_rows) > part.limit
        if part.older:
            more_older = more
        else:
            more_newer = more
        found.extend(part_rows[: part.limit])
    found.sort(key=lambda row: row[0], reverse=query.descending)
    seqs = [row[0] for row in found]
    lowest, highest = window.edges(seqs)
    if more_older is None:
        more_older = await _any(connection, access.id, low, lowest - 1, query.author)
    if more_newer is None:
        more_newer = await _any(connection, access.id, highest + 1, high, query.author)
    items = await messages.wires_of(connection, access.id, found)
    return Page(items, lowest, highest, more_older, more_newer)


async def _scan(
    connection: Connection, conversation_id: UUID, low: int, high: int, author: str | None, older: bool, limit: int
) -> Sequence[Any]:
    if low > high:
        return []
    if author is None:
        return await fetch(connection, _OLDER if older else _NEWER, conversation_id, low, high, limit)
    sql = _OLDER_BY if older else _NEWER_BY
    return await fetch(connection, sql, conversation_id, low, high, limit, author)


async def _any(connection: Connection, conversation_id: UUID, low: int, high: int, author: str | None) -> bool:
    """Whether the range holds a message; without an author that is arithmetic, as `seq` has no gap."""
    if low > high or author is None:
        return low <= high
    return bool(await fetch(connection, _OLDER_BY, conversation_id, low, high, 1, author))


async def stood_still(connection: Connection, access: Access, authors: Sequence[str]) -> bool:
    """Whether nothing has changed in the conversation since `access` was read: what was read after it is then the
    state at its `rev`, and not a mixture with a later one. That takes in the profiles of `authors` if each of them is
    or was a member, and it is False if one was not."""
    found = await fetch(connection, _STOOD_STILL, access.id, access.rev, authors)
    return bool(found and found[0][0])
