"""Pages of history that have been written to JSON already.

A page is a matter of the conversation's `rev` and `floor`: while those stand, its messages and their authors'
profiles are the same bytes for every member. The head of a busy conversation is asked for by all who open it, so it
is read and written once.
"""

from __future__ import annotations

import asyncio
from collections import OrderedDict
from dataclasses import dataclass
from uuid import UUID

from nestrel.core.paging import HistoryQuery
from nestrel.store import rows
from nestrel.store.access import Access
from nestrel.store.native import Connection
from nestrel.store.read import history, profiles
from nestrel.store.replicas import Replicas


@dataclass(frozen=True, slots=True)
class WrittenPage:
    """Messages and profiles as JSON, and where the page lies in the history."""

    items: bytes
    profiles: bytes
    lowest: int
    highest: int
    older: bool
    newer: bool

    @property
    def size(self) -> int:
        """Bytes of it."""
        return len(self.items) + len(self.profiles)


_Key = tuple[int, UUID, int, int, HistoryQuery]


class Pages:
    """The pages asked for last, within a bound of bytes; many who ask for one at the same time read it once. A page
    that time has a part in (`since`, `until`) is not kept, nor one of an author who never was a member: a changed
    profile moves the conversations of its memberships only."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._kept: OrderedDict[_Key, WrittenPage] = OrderedDict()
        self._reading: dict[_Key, asyncio.Future[WrittenPage]] = {}
        self.bytes = 0

    def kept(self, access: Access, query: HistoryQuery) -> WrittenPage | None:
        """The page as of the moment that `access` saw, if it has been written before."""
        key = _key(access, query)
        found = self._kept.get(key)
        if found is not None:
            self._kept.move_to_end(key)
        return found

    async def read(self, replicas: Replicas, access: Access, query: HistoryQuery) -> WrittenPage:
        """Read and write the page as of the moment that `access` saw, or wait for who does so already."""
        if query.since is not None or query.until is not None:
            return await replicas.read(access, lambda connection: self._read(connection, access, query))
        key = _key(access, query)
        while (reading := self._reading.get(key)) is not None:
            try:
                return await asyncio.shield(reading)
            except asyncio.CancelledError:
                if not reading.cancelled():
                    raise  # it is this one who has gone; whoever read has gone where it goes on
        reading = self._reading[key] = asyncio.get_running_loop().create_future()
        try:
            found = await replicas.read(access, lambda connection: self._read(connection, access, query))
        except BaseException as error:
            if isinstance(error, Exception):
                reading.set_exception(error)
                reading.exception()  # those who wait have it; nobody may
            else:
                reading.cancel()
            raise
        else:
            reading.set_result(found)
            return found
        finally:
            del self._reading[key]

    async def _read(self, connection: Connection, access: Access, query: HistoryQuery) -> WrittenPage:
        page = await history.read(connection, access, query)
        people = sorted({user for item in page.items for user in (item["author_id"], *item["mentions"])})
        written = WrittenPage(
            rows.dump(page.items),
            rows.dump(await profiles.read(connection, people)),
            page.lowest,
            page.highest,
            page.older,
            page.newer,
        )
        if query.since is None and query.until is None and await history.stood_still(connection, access, people):
            self._keep(_key(access, query), written)
        return written

    def _keep(self, key: _Key, written: WrittenPage) -> None:
        replaced = self._kept.pop(key, None)
        if replaced is not None:
            self.bytes -= replaced.size
        self._kept[key] = written
        self.bytes += written.size
        while self.bytes > self._most:
            _, oldest = self._kept.popitem(last=False)
            self.bytes -= oldest.size


def _key(access: Access, query: HistoryQuery) -> _Key:
    return access.epoch, access.id, access.rev, access.floor, query
