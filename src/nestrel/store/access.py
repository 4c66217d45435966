"""How a caller stands to a conversation, read in one statement; for many callers at once, in one for all of them."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from nestrel.core.problems import NotFound
from nestrel.core.roles import Kind, Role, Standing, Visibility
from nestrel.store import epochs, rules
from nestrel.store.database import Database
from nestrel.store.native import Connection, fetch

_ACCESS = f"""
SELECT c.kind, c.visibility, c.head, {rules.floor("c")}, c.rev, m.role, {epochs.CURRENT}
FROM nestrel.conversations c
LEFT JOIN nestrel.members m ON m.conversation_id = c.id AND m.user_id = $2 AND m.left_at IS NULL
WHERE c.id = $1 AND c.closed_at IS NULL
"""


_ACCESS_OF_MANY = f"""
SELECT c.kind, c.visibility, c.head, c.floor, c.rev, m.role, {epochs.CURRENT}
FROM unnest($1::uuid[], $2::text[]) WITH ORDINALITY AS i (conversation_id, user_id, n)
LEFT JOIN LATERAL (SELECT kind, visibility, head, {rules.floor("x")} AS floor, rev FROM nestrel.conversations x
    WHERE id = i.conversation_id AND closed_at IS NULL LIMIT 1) c ON true
LEFT JOIN LATERAL (SELECT role FROM nestrel.members
    WHERE conversation_id = i.conversation_id AND user_id = i.user_id AND left_at IS NULL LIMIT 1) m ON true
ORDER BY i.n
"""

_IN_FLIGHT = 2
_MANY = 100


@dataclass(frozen=True, slots=True)
class Caller:
    """Who a command or a question comes from."""

    user_id: str
    service: bool = False


@dataclass(frozen=True, slots=True)
class Access:
    """A conversation that the caller may see, as it stood at the read: `rev` and `head` name one moment."""

    id: UUID
    standing: Standing
    head: int
    floor: int
    rev: int
    epoch: int


def not_found(conversation_id: UUID) -> NotFound:
    return NotFound(f"there is no conversation {conversation_id} that you may see")


async def see(connection: Connection, conversation_id: UUID, caller: Caller, *, lock: bool = False) -> Access:
    """The conversation for a caller who may see it. `lock` holds its row until the transaction ends.

    Raises:
        NotFound: it does not exist, is closed, or the caller may not know of it.
    """
    sql = _ACCESS + "FOR NO KEY UPDATE OF c" if lock else _ACCESS
    found = await fetch(connection, sql, conversation_id, caller.user_id)
    if not found:
        raise not_found(conversation_id)
    return _access(connection, conversation_id, caller, found[0])


def _access(connection: Connection, conversation_id: UUID, caller: Caller, row: Sequence[Any]) -> Access:
    kind, visibility, head, floor, rev, role, present = row
    epoch = connection.history.check(present)
    if kind is None:
        raise not_found(conversation_id)
    standing = Standing(Kind(kind), Visibility(visibility), Role(role) if role else None, caller.service)
    if not standing.may_see:
        raise not_found(conversation_id)
    return Access(conversation_id, standing, head, floor, rev, epoch)


class AccessReader:
    """`see` for the busiest reads: questions that come while a statement runs go together into the next one, so that
    a process under load asks the store once for many. An idle one asks at once."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._waiting: list[tuple[UUID, Caller, asyncio.Future[Access]]] = []
        self._running: set[asyncio.Task[None]] = set()

    async def see(self, conversation_id: UUID, caller: Caller) -> Access:
        """The conversation as it stands now or later, never as it stood before the call. Raises as `see` does."""
        future: asyncio.Future[Access] = asyncio.get_running_loop().create_future()
        self._waiting.append((conversation_id, caller, future))
        if len(self._running) < _IN_FLIGHT:
            task = asyncio.create_task(self._run())
            self._running.add(task)
            task.add_done_callback(self._running.discard)
        return await future

    async def _run(self) -> None:
        while self._waiting:
            asked, self._waiting = self._waiting[:_MANY], self._waiting[_MANY:]
            try:
                async with self._database.read() as connection:
                    ids, users = [one[0] for one in asked], [one[1].user_id for one in asked]
                    found = await fetch(connection, _ACCESS_OF_MANY, ids, users)
                    connection.history.check(found[0][-1])
            except Exception as error:
                for _, _, future in asked:
                    if not future.done():
                        future.set_exception(error)
                continue
            for (conversation_id, caller, future), row in zip(asked, found, strict=True):
                if future.done():
                    continue  # whoever asked has gone
                try:
                    future.set_result(_access(connection, conversation_id, caller, row))
                except NotFound as problem:
                    future.set_exception(problem)
