"""A service with an application at its database, and what became of what that left there."""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable
from typing import Any

import asyncpg
import pytest
from sqlalchemy.engine import make_url

from nestrel.store import addresses
from tests.support import Person, Served, once


def plain(url: str, drivername: str = "postgresql", **parts: Any) -> str:
    return make_url(addresses.sqlalchemy(url)).set(drivername=drivername, **parts).render_as_string(hide_password=False)


@pytest.fixture
async def application(make_database: Callable[[], str]) -> AsyncIterator[tuple[Served, str, asyncpg.Connection[Any]]]:
    """A service, its database, and a connection of an application's to that."""
    url = make_database()
    connection = await asyncpg.connect(plain(url))
    try:
        with Served(url) as served:
            served.wait_ready()
            yield served, url, connection
    finally:
        await connection.close()


async def posted(who: Person, place: str, count: int) -> list[dict[str, Any]]:
    """The messages of a conversation, oldest first, once there are so many."""

    async def look() -> list[dict[str, Any]]:
        return list(reversed((await who.page(place, limit=200))["items"]))

    return await once(look, lambda found: len(found) >= count)


async def refused(connection: asyncpg.Connection[Any], count: int) -> list[Any]:
    """What stands as refused, of all that can be left, once it is so many."""

    async def look() -> list[Any]:
        return list(await connection.fetch("SELECT * FROM nestrel.refused ORDER BY ticket"))

    return await once(look, lambda found: len(found) >= count)


async def refusals(connection: asyncpg.Connection[Any], count: int) -> list[Any]:
    async def look() -> list[Any]:
        return list(await connection.fetch("SELECT * FROM nestrel.refused_posts ORDER BY ticket"))

    return await once(look, lambda found: len(found) >= count)
