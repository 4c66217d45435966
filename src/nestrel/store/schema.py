"""Bring the schema to date, and tell whether it is.

A version's revisions are of two kinds. Those *before* add what its code needs and keep what the code of before needs:
they are run while that still serves. Those *after* (`after = True` in the file) take away what only the code of before
needed, once none of it runs. Each is a transaction of its own that waits but a moment for a lock, and is tried again.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import NamedTuple

from alembic import command
from alembic.config import Config
from alembic.runtime.migration import MigrationContext
from alembic.script import ScriptDirectory
from sqlalchemy import Connection, text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.ext.asyncio import AsyncConnection, create_async_engine

from nestrel.store import addresses, troubles
from nestrel.store.native import SCHEMA

_MIGRATIONS = Path(__file__).parent / "migrations"
_OLDEST = 14
_SERVER = "SELECT current_setting('server_version_num')::int, current_setting('server_encoding')"
_SCHEMA_LOCK = "SELECT pg_advisory_lock(hashtextextended('schema ' || :schema, 0))"
_UNLOCK = "SELECT pg_advisory_unlock(hashtextextended('schema ' || :schema, 0))"
"""Two upgrades of one schema started at one moment run one after the other."""
_OTHERS_SECONDS = 600
"""How long to wait for another upgrade."""
_LOCK_SECONDS = 2
"""How long a revision waits for a lock; meanwhile those wait who came after it."""
_TRIES = 60
_PAUSE_SECONDS = 0.5
_LOCKED = "55P03"


class Step(NamedTuple):
    """A revision, and whether it is one for after."""

    revision: str
    after: bool


def _config() -> Config:
    config = Config()
    config.set_main_option("script_location", str(_MIGRATIONS))
    return config


@cache
def _steps() -> tuple[Step, ...]:
    """All revisions, the first one first. Each module of them is loaded for it: once, and not for every /readyz."""
    scripts = ScriptDirectory.from_config(_config()).walk_revisions()
    return tuple(Step(one.revision, bool(getattr(one.module, "after", False))) for one in scripts)[::-1]


def needed_of(steps: Sequence[Step]) -> str:
    """The last revision that is not one for after: those at the end are for when the code of before is gone. One with
    others behind it is of an earlier version, of which nothing may run any more."""
    return next(step.revision for step in reversed(steps) if not step.after)


def newest() -> str:
    """The last revision that this version has. Revisions are numbered, so that one can be told from a later one."""
    return _steps()[-1].revision


def needed() -> str:
    """The revision without which this code cannot serve."""
    return needed_of(_steps())


def serves(at: str | None) -> bool:
    """Whether this code can serve a database at a revision: the one that it needs or a later one, which an upgrade
    under way has brought and which keeps what the code of before needs."""
    return at is not None and at >= needed()


async def current(connection: AsyncConnection, schema: str = SCHEMA) -> str | None:
    """The revision that the database is at; None for an empty one."""

    def look(sync: Connection) -> str | None:
        return MigrationContext.configure(sync, opts={"version_table_schema": schema}).get_current_revision()

    return await connection.run_sync(look)


class Unfit(Exception):
    """The database is none that the service can use; the text says why, and what to do."""


async def check_server(connection: AsyncConnection) -> None:
    """Raises `Unfit` for a server that is too old, or a database whose text is not UTF-8."""
    version, encoding = (await connection.execute(text(_SERVER))).one()
    fault = unfit(version, encoding)
    if fault is not None:
        raise Unfit(fault)


def unfit(version: int, encoding: str) -> str | None:
    """Why a server of that version number, with a database of that encoding, cannot be used; None if it can."""
    if version < _OLDEST * 10_000:
        return f"PostgreSQL {version // 10_000} is too old: the service needs {_OLDEST} or newer"
    if encoding != "UTF8":
        return (
            f"the database keeps its text as {encoding}, which cannot hold all that people write: make one with "
            "ENCODING 'UTF8' TEMPLATE template0"
        )
    return None


async def upgrade(url: str, schema: str = SCHEMA, *, before: bool = False) -> tuple[str | None, str]:
    """Bring the database to date; returns the revisions before and after. Safe to run from many places at once, and
    again after it was cut short. `before`: only as far as the code of before can still serve.

    Raises:
        Unfit: it is none that the service can use.
        DBAPIError: the database refuses, or something holds what a revision must change for half a minute and more.
    """
    engine = create_async_engine(addresses.sqlalchemy(url))
    try:
        async with engine.connect() as connection:
            await check_server(connection)
            await connection.execute(text(f"SET lock_timeout = '{_OTHERS_SECONDS}s'"))
            await connection.execute(text(_SCHEMA_LOCK), {"schema": schema})
            await connection.execute(text(f"SET lock_timeout = '{_LOCK_SECONDS}s'"))
            there = text("SELECT 1 FROM pg_namespace WHERE nspname = :schema")
            if (await connection.execute(there, {"schema": schema})).first() is None:  # the owner may make none
                await connection.execute(text(f"CREATE SCHEMA {schema}"))
            await connection.commit()
            was = await current(connection, schema)
            await connection.commit()
            first = _steps()[0].revision
            if was is not None and was < first:
                raise Unfit(
                    f"the schema is at {was}, and this version upgrades one that is at {first} or later: "
                    f"first upgrade it to {first} with an earlier version of nestrel"
                )
            target = needed() if before else newest()
            if was is None or was < target:
                await _run(connection, schema, target)
            await connection.execute(text(f"SELECT {schema}.audit_months_v1(24)"))  # two years from now on, each time
            at = await current(connection, schema)
            await connection.execute(text(_UNLOCK), {"schema": schema})
            await connection.commit()
        return was, at or target
    finally:
        await engine.dispose()


async def _run(connection: AsyncConnection, schema: str, target: str) -> None:
    """Run what is left up to a revision. One that cannot have a lock at once lets go of all it has, and comes again."""
    for tries in range(_TRIES):
        try:
            await connection.run_sync(_upgrade, schema, target)
        except DBAPIError as error:
            await connection.rollback()
            if troubles.sqlstate(error) != _LOCKED or tries == _TRIES - 1:
                raise
            await asyncio.sleep(_PAUSE_SECONDS)
        else:
            return


def _upgrade(connection: Connection, schema: str, target: str) -> None:
    config = _config()
    config.attributes["connection"] = connection
    config.attributes["schema"] = schema
    command.upgrade(config, target)
