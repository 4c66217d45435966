"""Statements composed of the tables: each is one that PostgreSQL takes, and what it is given goes by name."""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Iterator

import asyncpg
import pytest
import sqlalchemy as sa

import nestrel.store
from nestrel.store.composed import Change, Query, only, written
from nestrel.store.database import Database
from nestrel.store.tables.conversations import blocks


def _composed() -> Iterator[tuple[str, Query[object] | Change]]:
    for found in pkgutil.walk_packages(nestrel.store.__path__, "nestrel.store."):
        if ".migrations." in found.name:
            continue
        module = importlib.import_module(found.name)
        for name, value in vars(module).items():
            if isinstance(value, (Query, Change)) and not name.startswith("_"):
                yield f"{found.name}.{name}", value


COMPOSED = dict(_composed())


@pytest.mark.parametrize("name", COMPOSED)
async def test_it_is_prepared_with_a_parameter_for_each_name(name: str, database: Database) -> None:
    statement = COMPOSED[name]
    async with database.read() as connection:
        driver: asyncpg.Connection = connection.driver
        prepared = await driver.prepare(connection.named(statement.sql))
    assert len(prepared.get_parameters()) == len(statement.names)
    assert set(statement.constants) <= set(statement.names)


async def test_what_is_missing_or_unknown_is_said(database: Database) -> None:
    find = Query(sa.select(blocks.c.blocked_at).where(blocks.c.user_id == sa.bindparam("user_id")), only)
    async with database.read() as connection:
        assert await find.fetch(connection, user_id="nobody") == []
        assert await find.first(connection, user_id="nobody") is None
        with pytest.raises(KeyError, match="user_id"):
            await find.fetch(connection)
        with pytest.raises(KeyError, match="user_id"):
            await find.fetch(connection, user_id="nobody", other=1)


def test_an_in_whose_length_is_not_known_is_refused() -> None:
    with pytest.raises(AssertionError, match="ANY"):
        _ = Query(sa.select(blocks.c.user_id).where(blocks.c.user_id.in_(["odd", "mara"])), only).sql


def test_an_expression_as_text_names_no_table() -> None:
    assert written(blocks.c.user_id == "it's") == "user_id = 'it''s'"
