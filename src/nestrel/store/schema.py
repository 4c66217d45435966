"""Bring the schema to date, and tell whether it is."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, text
from sqlalchemy.ext.asyncio import AsyncConnection, create_async_engine

from nestrel.store.database import asyncpg_url

_MIGRATIONS = Path(__file__).parent / "migrations"
_LOCK = 0x6E657374
"""Two upgrades started at one moment run one after the other under this advisory lock."""


def _config() -> Config:
    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    return config


def newest() -> str:
    """The revision that this code needs."""
    revision = ScriptDirectory.from_config(_config()).get_current_head()
    assert revision is not None
    return revision


async def current(connection: AsyncConnection) -> str | None:
    """The revision that the database is at; None for an empty one."""
    return await connection.run_sync(lambda sync: MigrationContext.configure(sync).get_current_revision())


async def upgrade(url: str) -> tuple[str | None, str]:
    """Bring the database to date; returns the revisions before and after. Safe to run from many places at once."""
    engine = create_async_engine(asyncpg_url(url))
    try:
        async with engine.begin() as connection:
            await connection.execute(text("SELECT pg_advisory_xact_lock(:key)"), {"key": _LOCK})
            before = await current(connection)
            await connection.run_sync(_upgrade)
        return before, newest()
    finally:
        await engine.dispose()


def _upgrade(connection: Connection) -> None:
    config = _config()
    config.attributes["connection"] = connection
    command.upgrade(config, "head")
