"""Plain lists: a page, where the next one begins, and the profiles of those whom it names."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import TypeVar

from fastapi import Request

from nestrel.core.callers import Caller
from nestrel.core.cursors import AllPosition, ResyncPosition
from nestrel.core.problems import invalid
from nestrel.service.http import Json, link_header
from nestrel.service.models import ListQuery
from nestrel.service.state import Service
from nestrel.store.native import Connection
from nestrel.store.read import profiles
from nestrel.store.rows import Wire

T = TypeVar("T")


def opened(open_: Callable[..., T], *binding: object) -> T:
    """What a cursor holds. Raises `InvalidRequest` for one that is not of this place, member and service."""
    try:
        return open_(*binding)
    except ValueError as error:
        raise invalid("/cursor", str(error)) from None


def all_since(at: AllPosition | ResyncPosition) -> AllPosition:
    """The snapshot from which to follow: in the middle of a resync, from where that began, or from the beginning."""
    if isinstance(at, AllPosition):
        return at
    return at.since or AllPosition.beginning(at.upto.epoch)


async def listed(
    request: Request,
    service: Service,
    caller: Caller,
    query: ListQuery,
    of: str,
    read: Callable[[Connection, str], Awaitable[tuple[list[Wire], str | None]]],
    person: str = "user_id",
) -> Json:
    """Answer one page. `read` gives the items after a key and the key to continue after; `of` names the list, so
    that a cursor of another one is refused; `person` is the field of an item whose profile is wanted."""
    after = ""
    if query.cursor is not None:
        after = opened(service.seal.open_listing, caller.user_id, of, query.cursor)
    async with service.database.read() as connection:
        items, following = await read(connection, after)
        people = await profiles.read(connection, [item[person] for item in items])
    cursor = service.seal.listing(caller.user_id, of, following) if following is not None else None
    answer = {"items": items, "next": cursor, "profiles": people}
    return Json(answer, headers=link_header(request, {"next": cursor}, query.limit))
