"""How a caller stands to a conversation, read in one statement; for many callers at once, in one for all of them."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.problems import Problem
from nestrel.core.rights import Action, Relation, no_conversation
from nestrel.core.roles import Kind, Role, Visibility
from nestrel.store import admitted, epochs, fragments, rules
from nestrel.store.database import Database
from nestrel.store.native import Connection, fetch

KEPT_OUT = "kept out"
"""Stands for the role of whom the owners keep out."""

ROLE = "coalesce(m.role, o.role)"


def out(conversation_id: str, user_id: str) -> str:
    """SQL for whether somebody is kept out, joined behind their member row `m`. Who has one that holds is not looked
    for."""
    return f"""LEFT JOIN LATERAL (SELECT '{KEPT_OUT}' AS role FROM nestrel.kept_out
    WHERE m.role IS NULL AND conversation_id = {conversation_id} AND user_id = {user_id}
      AND {fragments.STILL_KEPT_OUT} LIMIT 1) o ON true"""


_ACCESS = f"""
SELECT c.kind, c.visibility, c.head, {rules.floor("c")}, c.rev, {ROLE}, {epochs.CURRENT}
FROM nestrel.conversations c
LEFT JOIN nestrel.members m ON m.conversation_id = c.id AND m.user_id = $2 AND m.left_at IS NULL
{out("c.id", "$2")}
WHERE c.id = $1 AND c.closed_at IS NULL
"""


_ACCESS_OF_MANY = f"""
SELECT c.kind, c.visibility, c.head, c.floor, c.rev, {ROLE}, {epochs.CURRENT}
FROM unnest($1::uuid[], $2::text[]) WITH ORDINALITY AS i (conversation_id, user_id, n)
LEFT JOIN LATERAL (SELECT kind, visibility, head, {rules.floor("x")} AS floor, rev FROM nestrel.conversations x
    WHERE id = i.conversation_id AND closed_at IS NULL LIMIT 1) c ON true
LEFT JOIN LATERAL (SELECT role FROM nestrel.members
    WHERE conversation_id = i.conversation_id AND user_id = i.user_id AND left_at IS NULL LIMIT 1) m ON true
{out("i.conversation_id", "i.user_id")}
ORDER BY i.n
"""

_IN_FLIGHT = 2
_MANY = 100


@dataclass(frozen=True, slots=True)
class Access:
    """A conversation that the caller may do something to, as it stood at the read: `rev` and `head` name one moment."""

    id: UUID
    standing: Relation
    head: int
    floor: int
    rev: int
    epoch: int


async def see(
    connection: Connection, conversation_id: UUID, caller: Caller, action: Action, *, lock: bool = False
) -> Access:
    """The conversation for a caller who may do this; there is no other way to one. `lock` holds its row until the
    transaction ends, and asks whether they are still let in once it has it.

    Raises:
        NotFound: it does not exist, is closed, or the caller may not know of it.
        Forbidden: they see it, and may not do this; or they were suspended meanwhile.
        Unauthenticated: they were signed out meanwhile.
    """
    sql = _ACCESS + "FOR NO KEY UPDATE OF c" if lock else _ACCESS
    found = await fetch(connection, sql, conversation_id, caller.user_id)
    if lock:  # whether or not it was found: nobody learns that by the statements
        await admitted.check(connection, caller)
    if not found:
        raise no_conversation(conversation_id)
    return _access(connection, conversation_id, caller, action, found[0])


def _access(
    connection: Connection, conversation_id: UUID, caller: Caller, action: Action, row: Sequence[Any]
) -> Access:
    if caller.actions is not None and action not in caller.actions:
        raise RuntimeError(f"this door was made for {', '.join(caller.actions)}, and not for {action}")
    kind, visibility, head, floor, rev, role, present = row
    epoch = connection.history.check(present)
    if kind is None:
        raise no_conversation(conversation_id)
    standing = standing_of(Kind(kind), Visibility(visibility), role, service=caller.service)
    standing.check(action, conversation_id)
    return Access(conversation_id, standing, head, floor, rev, epoch)


def standing_of(kind: Kind, visibility: Visibility, role: str | None, *, service: bool) -> Relation:
    """How someone stands to a conversation; `role` as `ROLE` gives it."""
    kept_out = role == KEPT_OUT
    return Relation(kind, visibility, None if role is None or kept_out else Role(role), service, kept_out)


class AccessReader:
    """`see` for the busiest reads: questions that come while a statement runs go together into the next one, so that
    a process under load asks the store once for many. An idle one asks at once."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._waiting: list[tuple[UUID, Caller, Action, asyncio.Future[Access]]] = []
        self._running: set[asyncio.Task[None]] = set()

    async def see(self, conversation_id: UUID, caller: Caller, action: Action) -> Access:
        """The conversation as it stands now or later, never as it stood before the call. Raises as `see` does."""
        future: asyncio.Future[Access] = asyncio.get_running_loop().create_future()
        self._waiting.append((conversation_id, caller, action, future))
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
                for *_, future in asked:
                    if not future.done():
                        future.set_exception(error)
                continue
            for (conversation_id, caller, action, future), row in zip(asked, found, strict=True):
                if future.done():
                    continue  # whoever asked has gone
                try:
                    future.set_result(_access(connection, conversation_id, caller, action, row))
                except Problem as problem:
                    future.set_exception(problem)
