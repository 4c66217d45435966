"""A connection, and the one form in which statements are written: the driver's own (`$1`, `$2`, …), which needs no
compilation and takes arrays as parameters."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from datetime import datetime
from functools import lru_cache
from typing import Any, Literal, cast
from uuid import UUID

import asyncpg
import orjson
from sqlalchemy.ext.asyncio import AsyncConnection

from nestrel.store.events import Moved
from nestrel.store.histories import History
from nestrel.store.tracing import tracing

SCHEMA = "nestrel"
"""The schema that all statements name; a database with another one has it put in its place."""


@lru_cache(maxsize=1000)
def in_schema(sql: str, schema: str) -> str:
    """A statement for tables in another schema."""
    return sql.replace(f"{SCHEMA}.", f"{schema}.")


_WAITING_FOR_STANDBY = "SyncRepWaitForLSN"


class Connection:
    """One of `Database`'s connections: SQLAlchemy's, in autocommit, and the driver's below it. `told` is what its
    transaction has announced so far, `history` what its process knows of the database's epochs; `at_rest` is false from
    before a transaction begins until its end is known. `unconfirmed`: a commit was to wait for a standby, and was made
    to go on without. `pooled`: it leads to another server connection for each transaction, so that every statement is
    in one."""

    __slots__ = ("at_rest", "driver", "history", "pooled", "schema", "sql", "told", "unconfirmed")

    def __init__(
        self, sql: AsyncConnection, driver: object, history: History, schema: str = SCHEMA, *, pooled: bool = False
    ) -> None:
        self.sql = sql
        self.driver = cast("asyncpg.Connection[Any]", driver)
        self.history = history
        self.schema = schema
        self.told: list[Moved] = []
        self.at_rest = True
        self.unconfirmed = False
        self.pooled = pooled
        self.driver.add_log_listener(self._heard)

    def _heard(self, _driver: object, message: object) -> None:
        """What the server says beside its answers. It says so of a commit in the reader's language, but always from
        the same place; and before its answer, so that this is known when that is."""
        self.unconfirmed |= getattr(message, "server_source_function", None) == _WAITING_FOR_STANDBY

    @asynccontextmanager
    async def transaction(
        self, isolation: Literal["read_committed", "repeatable_read"] | None = None, *, readonly: bool = False
    ) -> AsyncIterator[None]:
        """A transaction, committed at the end of the block. One whose beginning or end was cut off leaves the
        connection not `at_rest`: the driver would take the next transaction for a part of this one, and never commit
        it."""
        transaction = self.driver.transaction(isolation=isolation, readonly=readonly)
        self.at_rest = False
        await transaction.start()
        try:
            yield
        except BaseException:
            await transaction.rollback()
            self.at_rest = True
            raise
        await transaction.commit()
        self.at_rest = True

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
    if tracing.tracer is not None and tracing.here() is not None:
        with tracing.statement(sql):
            return await _fetch(connection, sql, values)
    return await _fetch(connection, sql, values)


async def _fetch(connection: Connection, sql: str, values: Sequence[Any]) -> Sequence[Any]:
    if connection.pooled and not connection.driver.is_in_transaction():
        async with connection.transaction():
            return await connection.driver.fetch(connection.named(sql), *values)
    return await connection.driver.fetch(connection.named(sql), *values)


async def execute(connection: Connection, sql: str, *values: Any) -> None:
    """Run a statement that answers nothing."""
    await fetch(connection, sql, *values)


async def copy_in(connection: Connection, table: str, columns: Sequence[str], records: Sequence[Sequence[Any]]) -> None:
    """Write rows by COPY, in the transaction that is open."""
    await connection.driver.copy_records_to_table(
        table, columns=columns, records=records, schema_name=connection.schema
    )
