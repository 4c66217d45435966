"""Blocks: no direct conversation with me, no posts in one that exists, and no adding me."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import NamedTuple

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import insert

from nestrel.core import limits
from nestrel.core.problems import Forbidden, OverQuota, invalid
from nestrel.core.roles import direct_pair
from nestrel.store import locks
from nestrel.store.composed import Change, Query, only
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.tables.conversations import blocks, conversations


class Block(NamedTuple):
    """Whom somebody blocks, and since when."""

    blocked_id: str
    since: datetime


_OF_USER = blocks.c.user_id == sa.bindparam("user_id")
_OF_PAIR = sa.and_(_OF_USER, blocks.c.blocked_id == sa.bindparam("blocked_id"))
_BACK = sa.and_(blocks.c.user_id == sa.bindparam("blocked_id"), blocks.c.blocked_id == sa.bindparam("user_id"))
_MADE = sa.select(sa.func.count()).select_from(blocks).where(_OF_USER).scalar_subquery()
_PUT = insert(blocks).from_select(
    ["user_id", "blocked_id"],
    sa.select(sa.bindparam("user_id", type_=sa.Text), sa.bindparam("blocked_id", type_=sa.Text)).where(
        _MADE < limits.BLOCKS
    ),
)

BLOCK_PUT = Query(_PUT.on_conflict_do_nothing().returning(blocks.c.blocked_at), only)
BLOCK_FIND = Query(sa.select(blocks.c.blocked_at).where(_OF_PAIR), only)
BLOCK_DELETE = Change(sa.delete(blocks).where(_OF_PAIR))
BLOCK_PAGE = Query(
    sa.select(blocks.c.blocked_id, blocks.c.blocked_at)
    .where(_OF_USER, blocks.c.blocked_id > sa.bindparam("after"))
    .order_by(blocks.c.blocked_id)
    .limit(sa.bindparam("limit")),
    Block,
)
BLOCKED_EITHER = Query(sa.select(sa.exists().where(sa.or_(_OF_PAIR, _BACK))), bool)
MARK_BLOCKED = Change(
    sa.update(conversations)
    .where(conversations.c.direct_pair == sa.bindparam("pair"), conversations.c.closed_at.is_(None))
    .where(conversations.c.blocked != sa.bindparam("is_blocked"))
    .values(blocked=sa.bindparam("is_blocked"))
)
BLOCKED_BY = Query(
    sa.select(blocks.c.user_id)
    .where(
        blocks.c.user_id == sa.any_(sa.bindparam("others", type_=sa.ARRAY(sa.Text))),
        blocks.c.blocked_id == sa.bindparam("user_id"),
    )
    .limit(1),
    str,
)


async def put(database: Database, user_id: str, blocked_id: str) -> tuple[datetime, bool]:
    """Block someone; since when, and whether that is new.

    Raises:
        InvalidRequest: it is oneself.
        OverQuota: these are too many.
    """
    if user_id == blocked_id:
        raise invalid("/user_id", "nobody blocks themself")
    async with database.write() as connection:
        await _lock(connection, user_id, blocked_id)
        made = await BLOCK_PUT.first(connection, user_id=user_id, blocked_id=blocked_id)
        found = made or await BLOCK_FIND.first(connection, user_id=user_id, blocked_id=blocked_id)
        if found is None:
            raise OverQuota(
                f"you block at most {limits.BLOCKS:,} people", extra={"quota": "blocks", "limit": limits.BLOCKS}
            )
        if made is not None:
            await MARK_BLOCKED.run(connection, pair=direct_pair(user_id, blocked_id), is_blocked=True)
    return found, made is not None


async def since(connection: Connection, user_id: str, blocked_id: str) -> datetime | None:
    """Since when somebody blocks another; None where they do not."""
    return await BLOCK_FIND.first(connection, user_id=user_id, blocked_id=blocked_id)


async def delete(database: Database, user_id: str, blocked_id: str) -> None:
    """Block someone no longer."""
    async with database.write() as connection:
        await _lock(connection, user_id, blocked_id)
        await BLOCK_DELETE.run(connection, user_id=user_id, blocked_id=blocked_id)
        [still] = await BLOCKED_EITHER.fetch(connection, user_id=user_id, blocked_id=blocked_id)
        await MARK_BLOCKED.run(connection, pair=direct_pair(user_id, blocked_id), is_blocked=still)


async def page(connection: Connection, user_id: str, limit: int, after: str) -> tuple[list[Block], str | None]:
    """Whom someone blocks, by user id, and the id to continue after; None at the end."""
    found = await BLOCK_PAGE.fetch(connection, user_id=user_id, after=after, limit=limit + 1)
    return found[:limit], found[limit - 1].blocked_id if len(found) > limit else None


async def check_pair(connection: Connection, user_id: str, other_id: str, *, refusal: Forbidden) -> None:
    """Hold the pair until the transaction ends, and see that neither blocks the other. Raises the `refusal`, the same
    for both."""
    await _lock(connection, user_id, other_id)
    [blocked] = await BLOCKED_EITHER.fetch(connection, user_id=user_id, blocked_id=other_id)
    if blocked:
        raise refusal


async def blocked_by(connection: Connection, user_id: str, others: Sequence[str]) -> bool:
    """Whether one of the others blocks someone."""
    return bool(await BLOCKED_BY.fetch(connection, user_id=user_id, others=others))


async def _lock(connection: Connection, one: str, other: str) -> None:
    """Who makes a direct conversation and who blocks wait for each other: otherwise one would see no conversation to
    mark, and the other no block."""
    await locks.wait(connection, "pair", direct_pair(one, other))
