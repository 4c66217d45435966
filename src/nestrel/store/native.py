"""A connection, and statements in the driver's own form (`$1`, `$2`, …) for the hot paths: no compilation, arrays as
parameters."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any, cast
from uuid import UUID

import asyncpg
import orjson
from sqlalchemy import CursorResult, Executable
from sqlalchemy.ext.asyncio import AsyncConnection

from nestrel.store.events import Moved


class Connection:
    """One of `Database`'s connections: SQLAlchemy's, in autocommit, and the driver's below it. `told` is what its
    transaction has announced so far, `system` the database cluster's identifier once someone has asked."""

    __slots__ = ("driver", "sql", "system", "told")

    def __init__(self, sql: AsyncConnection, driver: object) -> None:
        self.sql = sql
        self.driver = cast("asyncpg.Connection[Any]", driver)
        self.told: list[Moved] = []
        self.system: int | None = None

    async def execute(self, statement: Executable, values: Mapping[str, Any] | None = None) -> CursorResult[Any]:
        """Run a statement of SQLAlchemy's."""
        return await self.sql.execute(statement, values)


def array(values: Sequence[UUID | str | int | datetime | None]) -> str:
    """A list as the text of a PostgreSQL array, to be taken as `$1::text::uuid[]`: given a list, the driver asks of
    each element whether it is a container, which costs more than all else of a large statement. Not for free text,
    whose escapes differ from those of JSON."""
    return f"{{{orjson.dumps(values, default=str)[1:-1].decode()}}}"


def texts(values: Sequence[str | None]) -> str:
    """The same for text; within its quotes only the backslash and the quote mean something."""
    return f"{{{','.join([_quoted(value) for value in values])}}}"


def _quoted(value: str | None) -> str:
    if value is None:
        return "NULL"
    if "\\" in value or '"' in value:
        value = value.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{value}"'


def hashes(values: Sequence[bytes | None]) -> str:
    """The same for bytes."""
    return f"{{{','.join(['NULL' if value is None else _hex(value) for value in values])}}}"


def _hex(value: bytes) -> str:
    return f'"\\\\x{value.hex()}"'


async def fetch(connection: Connection, sql: str, *values: Any) -> Sequence[Any]:
    """All rows of a statement."""
    return await connection.driver.fetch(sql, *values)


async def execute(connection: Connection, sql: str, *values: Any) -> None:
    """Run a statement that answers nothing."""
    await connection.driver.fetch(sql, *values)


async def copy_in(connection: Connection, table: str, columns: Sequence[str], records: Sequence[Sequence[Any]]) -> None:
    """Write rows by COPY, in the transaction that is open."""
    await connection.driver.copy_records_to_table(table, columns=columns, records=records)
