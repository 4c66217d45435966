"""Bring the schema to date, and tell whether it is."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, text
from sqlalchemy.ext.asyncio import AsyncConnection, create_async_engine

from nestrel.store import addresses
from nestrel.store.native import SCHEMA

_MIGRATIONS = Path(__file__).parent / "migrations"
_LOCK = "SELECT pg_advisory_xact_lock(hashtextextended('schema ' || :schema, 0))"
"""Two upgrades of one schema started at one moment run one after the other."""


def _config() -> Config:
    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    return config


def newest() -> str:
    """The revision that this code needs. Revisions are numbered, so that one can be told from a later one."""
    revision = ScriptDirectory.from_config(_config()).get_current_head()
    assert revision is not None
    return revision


def serves(at: str | None) -> bool:
    """Whether this code can serve a database at a revision: its own or a later one, which an upgrade under way has
    brought and which keeps what the code of before needs."""
    return at is not None and at >= newest()


async def current(connection: AsyncConnection, schema: str = SCHEMA) -> str | None:
    """The revision that the database is at; None for an empty one."""

    def look(sync: Connection) -> str | None:
        return MigrationContext.configure(sync, opts={"version_table_schema": schema}).get_current_revision()

    return await connection.run_sync(look)


async def upgrade(url: str, schema: str = SCHEMA) -> tuple[str | None, str]:
    """Bring the database to date; returns the revisions before and after. Safe to run from many places at once."""
    engine = create_async_engine(addresses.sqlalchemy(url))
    try:
        async with engine.begin() as connection:
            await connection.execute(text(_LOCK), {"schema": schema})
            there = await connection.execute(
                text("SELECT 1 FROM pg_namespace WHERE nspname = :schema"), {"schema": schema}
            )
            if there.first() is None:
                await connection.execute(text(f"CREATE SCHEMA {schema}"))
            before = await current(connection, schema)
            await connection.run_sync(_upgrade, schema)
        return before, newest()
    finally:
        await engine.dispose()


def _upgrade(connection: Connection, schema: str) -> None:
    config = _config()
    config.attributes["connection"] = connection
    config.attributes["schema"] = schema
    command.upgrade(config, "head")
    connection.execute(text(f"SELECT {schema}.audit_months_v1(24)"))  # two years from now on, each time anew
