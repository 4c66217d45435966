"""The tables that code names are those that the migrations make."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
from alembic.autogenerate import compare_metadata
from alembic.runtime.migration import MigrationContext
from sqlalchemy import Connection, inspect
from sqlalchemy.dialects.postgresql.base import ischema_names
from sqlalchemy.ext.asyncio import create_async_engine

from nestrel.store import addresses, schema
from nestrel.store.database import Database
from nestrel.store.native import execute
from nestrel.store.tables import metadata
from nestrel.store.tables.base import Snapshot, Xid8

# What is found in a database is of types that SQLAlchemy has a name for.
ischema_names |= {"xid8": Xid8, "pg_snapshot": Snapshot}

_MONTH = re.compile(r"audit_(\d{6}|rest)")
_STORED = """
SELECT relname, concat_ws(' ', relpersistence, relkind, reloptions, pg_get_partkeydef(oid), (
    SELECT string_agg(concat(attname, attstorage, attoptions), ' ' ORDER BY attnum) FROM pg_attribute
    WHERE attrelid = c.oid AND attnum > 0 AND NOT attisdropped))
FROM pg_class c WHERE relnamespace = 'nestrel'::regnamespace AND relkind IN ('r', 'p')
"""


def _of_the_service(_object: Any, name: str | None, kind: str, _reflected: bool, _compared: Any) -> bool:
    """Months of the audit are made as they come, and the revision's table is the migrations' own."""
    return kind != "table" or not (name is None or name == "alembic_version" or _MONTH.fullmatch(name))


def _differences(connection: Connection) -> list[Any]:
    context = MigrationContext.configure(
        connection,
        opts={
            "include_schemas": True,
            "include_name": lambda name, kind, _parents: kind != "schema" or name == metadata.schema,
            "include_object": _of_the_service,
            "compare_type": True,
            # `_described` has the defaults: Alembic overlooks one that takes another table's numbers.
            "compare_server_default": False,
        },
    )
    return list(compare_metadata(context, metadata))


def _described(connection: Connection) -> dict[str, Any]:
    """What Alembic does not compare: columns in their order with their defaults, keys, checks, the whole of an index,
    and how a table is stored."""
    look = inspect(connection)
    stored = {row[0]: row[1] for row in connection.exec_driver_sql(_STORED)}
    return {
        table: (
            [{**column, "type": str(column["type"])} for column in look.get_columns(table, metadata.schema)],
            stored[table],
            look.get_pk_constraint(table, metadata.schema),
            sorted(look.get_check_constraints(table, metadata.schema), key=lambda check: str(check["name"])),
            sorted(str(key["name"]) for key in look.get_foreign_keys(table, metadata.schema)),
            sorted(look.get_indexes(table, metadata.schema), key=lambda index: str(index["name"])),
        )
        for table in look.get_table_names(metadata.schema)
        if table != "alembic_version" and not _MONTH.fullmatch(table)
    }


async def test_the_tables_are_those_that_the_migrations_make(make_empty: Callable[[], str], url: str) -> None:
    made, written = (
        create_async_engine(addresses.sqlalchemy(url)),
        create_async_engine(addresses.sqlalchemy(make_empty())),
    )
    try:
        async with made.connect() as by_migrations, written.connect() as by_tables:
            assert await by_migrations.run_sync(_differences) == []
            await by_tables.exec_driver_sql(f"CREATE SCHEMA {metadata.schema}")
            await by_tables.run_sync(metadata.create_all)
            assert await by_tables.run_sync(_described) == await by_migrations.run_sync(_described)
    finally:
        await made.dispose()
        await written.dispose()


async def test_a_schema_older_than_the_first_revision_is_left_alone_and_says_what_to_do(
    database: Database, url: str
) -> None:
    async with database.write() as connection:
        await execute(connection, "UPDATE nestrel.alembic_version SET version_num = '0019'")
    with pytest.raises(schema.Unfit, match=r"at 0019.*first upgrade it to 0027 with an earlier version"):
        await schema.upgrade(url)
    async with database.read() as connection:
        assert await schema.current(connection.sql) == "0019"
