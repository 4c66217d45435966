"""Pages of history that have been written to JSON already.

A page is a matter of the conversation's `rev` and `floor`: while those stand, its messages are the same bytes for
every member. The head of a busy conversation is asked for by all who open it, so it is read and written once.
"""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass
from uuid import UUID

from sqlalchemy.ext.asyncio import AsyncConnection

from nestrel.core.paging import HistoryQuery
from nestrel.store import history, rows
from nestrel.store.access import Access

_BYTES = 32 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class WrittenPage:
    """Messages as JSON, whose they are, and where the page lies in the history."""

    items: bytes
    authors: frozenset[str]
    lowest: int
    highest: int
    older: bool
    newer: bool


class Pages:
    """The pages asked for last, within 32 MB. A page that time has a part in (`since`, `until`) is not kept."""

    def __init__(self) -> None:
        self._kept: OrderedDict[tuple[UUID, int, int, HistoryQuery], WrittenPage] = OrderedDict()
        self._bytes = 0

    async def read(self, connection: AsyncConnection, access: Access, query: HistoryQuery) -> WrittenPage:
        """The page as of the moment that `access` saw."""
        key = (access.id, access.rev, access.floor, query)
        found = self._kept.get(key)
        if found is not None:
            self._kept.move_to_end(key)
            return found
        page = await history.read(connection, access, query)
        written = WrittenPage(
            rows.dump(page.items),
            frozenset(item["author_id"] for item in page.items),
            page.lowest,
            page.highest,
            page.older,
            page.newer,
        )
        if query.since is None and query.until is None and await history.stood_still(connection, access):
            self._keep(key, written)
        return written

    def _keep(self, key: tuple[UUID, int, int, HistoryQuery], written: WrittenPage) -> None:
        self._kept[key] = written
        self._bytes += len(written.items)
        while self._bytes > _BYTES:
            self._bytes -= len(self._kept.popitem(last=False)[1].items)
