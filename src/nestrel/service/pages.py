"""Pages of history that have been written to JSON already.

A page is a matter of the conversation's `rev` and `floor`: while those stand, its messages and their authors'
profiles are the same bytes for every member. The head of a busy conversation is asked for by all who open it, so it
is read and written once.
"""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass
from uuid import UUID

from nestrel.core.paging import HistoryQuery
from nestrel.store import history, profiles, rows
from nestrel.store.access import Access
from nestrel.store.native import Connection

_BYTES = 32 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class WrittenPage:
    """Messages and profiles as JSON, and where the page lies in the history."""

    items: bytes
    profiles: bytes
    lowest: int
    highest: int
    older: bool
    newer: bool


class Pages:
    """The pages asked for last, within 32 MB. A page that time has a part in (`since`, `until`) is not kept, nor one
    of an author who never was a member: a changed profile moves the conversations of its memberships only."""

    def __init__(self) -> None:
        self._kept: OrderedDict[tuple[UUID, int, int, HistoryQuery], WrittenPage] = OrderedDict()
        self._bytes = 0

    def kept(self, access: Access, query: HistoryQuery) -> WrittenPage | None:
        """The page as of the moment that `access` saw, if it has been written before."""
        key = (access.id, access.rev, access.floor, query)
        found = self._kept.get(key)
        if found is not None:
            self._kept.move_to_end(key)
        return found

    async def read(self, connection: Connection, access: Access, query: HistoryQuery) -> WrittenPage:
        """Read and write the page as of the moment that `access` saw."""
        page = await history.read(connection, access, query)
        authors = sorted({item["author_id"] for item in page.items})
        written = WrittenPage(
            rows.dump(page.items),
            rows.dump(await profiles.read(connection, authors)),
            page.lowest,
            page.highest,
            page.older,
            page.newer,
        )
        if query.since is None and query.until is None and await history.stood_still(connection, access, authors):
            self._keep((access.id, access.rev, access.floor, query), written)
        return written

    def _keep(self, key: tuple[UUID, int, int, HistoryQuery], written: WrittenPage) -> None:
        self._kept[key] = written
        self._bytes += len(written.items) + len(written.profiles)
        while self._bytes > _BYTES:
            _, oldest = self._kept.popitem(last=False)
            self._bytes -= len(oldest.items) + len(oldest.profiles)
