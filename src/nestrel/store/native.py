"""A connection, and statements in the driver's own form (`$1`, `$2`, …) for the hot paths: no compilation, arrays as
parameters."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager
from datetime import datetime
from functools import lru_cache
from typing import TYPE_CHECKING, Any, Literal, cast
from uuid import UUID

import asyncpg
import orjson
from sqlalchemy import CursorResult, Executable, TextClause, text
from sqlalchemy.ext.asyncio import AsyncConnection

from nestrel.store.events import Moved

if TYPE_CHECKING:
    from nestrel.store.epochs import History

SCHEMA = "nestrel"
"""The schema that all statements name; a database with another one has it put in its place."""


class NewEpoch(Exception):
    """The database has another history than this process knows. `set_back` is the epoch that has ended, where nothing
    but a proof of it says so."""

    def __init__(self, set_back: int | None = None) -> None:
        super().__init__("the database has another history than before")
        self.set_back = set_back


@lru_cache(maxsize=1000)
def in_schema(sql: str, schema: str) -> str:
    """A statement for tables in another schema."""
    return sql.replace(f"{SCHEMA}.", f"{schema}.")


class Connection:
    """One of `Database`'s connections: SQLAlchemy's, in autocommit, and the driver's below it. `told` is what its
    transaction has announced so far, `history` what its process knows of the database's epochs; `whole` is false from
    before a transaction begins until its end is known."""

    __slots__ = ("driver", "history", "schema", "sql", "told", "whole")

    def __init__(self, sql: AsyncConnection, driver: object, history: History, schema: str = SCHEMA) -> None:
        self.sql = sql
        self.driver = cast("asyncpg.Connection[Any]", driver)
        self.history = history
        self.schema = schema
        self.told: list[Moved] = []
        self.whole = True

    @asynccontextmanager
    async def transaction(
        self, isolation: Literal["read_committed", "repeatable_read"] | None = None, *, readonly: bool = False
    ) -> AsyncIterator[None]:
        """A transaction, committed at the end of the block. One whose beginning or end was cut off leaves the
        connection not `whole`: the driver would take the next transaction for a part of this one, and never commit."""
        transaction = self.driver.transaction(isolation=isolation, readonly=readonly)
        self.whole = False
        await transaction.start()
        try:
            yield
        except BaseException:
            await transaction.rollback()
            self.whole = True
            raise
        await transaction.commit()
        self.whole = True

    async def execute(self, statement: Executable, values: Mapping[str, Any] | None = None) -> CursorResult[Any]:
        """Run a statement of SQLAlchemy's."""
        if self.schema != SCHEMA and isinstance(statement, TextClause):
            statement = text(in_schema(statement.text, self.schema))
        return await self.sql.execute(statement, values)

    def named(self, sql: str) -> str:
        """A statement in the driver's form, for this database's schema."""
        return sql if self.schema == SCHEMA else in_schema(sql, self.schema)


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
    return await connection.driver.fetch(connection.named(sql), *values)


async def execute(connection: Connection, sql: str, *values: Any) -> None:
    """Run a statement that answers nothing."""
    await connection.driver.fetch(connection.named(sql), *values)


async def copy_in(connection: Connection, table: str, columns: Sequence[str], records: Sequence[Sequence[Any]]) -> None:
    """Write rows by COPY, in the transaction that is open."""
    await connection.driver.copy_records_to_table(
        table, columns=columns, records=records, schema_name=connection.schema
    )
