"""Statements in the driver's own form (`$1`, `$2`, …), for the hot paths: no compilation, arrays as parameters."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, cast

import asyncpg
from sqlalchemy.ext.asyncio import AsyncConnection


def driver(connection: AsyncConnection) -> asyncpg.Connection[Any]:
    """The driver's connection below one of `Database`'s."""
    return cast("asyncpg.Connection[Any]", connection.info["driver"])


async def fetch(connection: AsyncConnection, sql: str, *values: Any) -> Sequence[Any]:
    """All rows of a statement."""
    return await driver(connection).fetch(sql, *values)


async def execute(connection: AsyncConnection, sql: str, *values: Any) -> None:
    """Run a statement that answers nothing."""
    await driver(connection).fetch(sql, *values)


async def copy_in(
    connection: AsyncConnection, table: str, columns: Sequence[str], records: Sequence[Sequence[Any]]
) -> None:
    """Write rows by COPY, in the transaction that is open."""
    await driver(connection).copy_records_to_table(table, columns=columns, records=records)
