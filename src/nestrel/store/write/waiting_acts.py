"""What an application has left in the database beside posts: conversations to make, members, people; and posts for a
conversation that is to be made. Each is carried out in a transaction with its own row, in the order of tickets."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from enum import StrEnum
from typing import NamedTuple, TypeVar
from uuid import UUID

from nestrel.core.problems import NotFound, Problem
from nestrel.store import locks, rows
from nestrel.store.database import Database
from nestrel.store.native import Connection, execute, fetch, texts
from nestrel.store.write import waiting_posts

T = TypeVar("T")

_ACT_COLUMNS = "ticket, act, conversation_id, name_key, user_id, detail::text, posted_as"
_FIRST = f"""
SELECT {_ACT_COLUMNS} FROM nestrel.acts_waiting
WHERE coalesce(conversation_id::text, name_key, user_id, '') <> ALL($1::text::text[]) ORDER BY ticket LIMIT 1
"""
# Whoever holds a conversation, or a profile, is waited for but for a moment: it is tried again in the next round.
_ACT_SOON = "SET LOCAL lock_timeout = '300ms'"
_ACT_DONE = "DELETE FROM nestrel.acts_waiting WHERE ticket = $1 RETURNING true"
_ACT_CALLED = "SELECT id FROM nestrel.conversations WHERE name_key = $1 AND closed_at IS NULL"
_ACT_REFUSED = """
INSERT INTO nestrel.refused_posts (ticket, conversation_id, author, key, problem)
VALUES ($1, $2, CASE WHEN NOT nestrel.erased_v1($3::text) THEN $3::text END, NULL, $4::text::json)
"""


class WaitingKind(StrEnum):
    """What is to be done."""

    MAKE = "make"
    PUT_MEMBER = "put_member"
    REMOVE_MEMBER = "remove_member"
    PUT_PERSON = "put_person"
    POST = "post"


class WaitingAct(NamedTuple):
    """An act that waits. It is about a conversation by its id, or by the key of the name that it will have, or about a
    person. `detail` is JSON, `posted_as` the role of the database that left it."""

    ticket: int
    act: WaitingKind
    conversation_id: UUID | None
    name_key: str | None
    user_id: str | None
    detail: str
    posted_as: str

    @property
    def about(self) -> str:
        """What it waits for, and what waits for it."""
        return str(self.conversation_id or self.name_key or self.user_id or "")


async def first(database: Database, but: set[str]) -> WaitingAct | None:
    """The next one, but for those that are `about` these."""
    async with database.read() as connection:
        found = await fetch(connection, _FIRST, texts(sorted(but)))
    return WaitingAct(found[0][0], WaitingKind(found[0][1]), *found[0][2:]) if found else None


async def carry_out(database: Database, act: WaitingAct, do: Callable[[Connection], Awaitable[T]]) -> T | None:
    """Do what an act asks for, in one transaction with its row; None where another process takes what waits, or has
    done it.

    Raises:
        Problem: it was refused, and waits still; or the store cannot do it now (`StoreUnavailable`).
    """
    async with database.write() as connection:
        if not await locks.alone(connection, waiting_posts.LOCK):
            return None
        await execute(connection, _ACT_SOON)
        if not await fetch(connection, _ACT_DONE, act.ticket):
            return None
        return await do(connection)


async def refuse(database: Database, act: WaitingAct, problem: Problem) -> None:
    """Let an act wait no longer, and keep why."""
    async with database.write() as connection:
        if await fetch(connection, _ACT_DONE, act.ticket):
            document = rows.dump(problem.document()).decode()
            await execute(connection, _ACT_REFUSED, act.ticket, act.conversation_id, act.user_id, document)


async def place_of(connection: Connection, act: WaitingAct) -> UUID:
    """The conversation that an act is about. Raises `NotFound` where none was made by that name."""
    if act.conversation_id is not None:
        return act.conversation_id
    found = await called(connection, act.name_key)
    if found is None:
        raise NotFound("the conversation that was to be made under that name was not made")
    return found


async def called(connection: Connection, name_key: str | None) -> UUID | None:
    """The conversation of that name, if there is one."""
    found = await fetch(connection, _ACT_CALLED, name_key)
    return found[0][0] if found else None
