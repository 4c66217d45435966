"""Statements that are composed of the store's tables in SQLAlchemy Core, and compiled once for the driver.

SQLAlchemy's own way to run a statement costs about three times what the driver does (decisions/001), most of it for
what is the same each time. So a statement is compiled when it is first run, and what is left is the driver's share.
Its parameters, the `bindparam`s in it, are given by name."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cached_property
from typing import Any, Generic, TypeVar

from sqlalchemy import ColumnElement, Executable
from sqlalchemy.dialects.postgresql.asyncpg import dialect as asyncpg_dialect
from sqlalchemy.sql import ClauseElement
from sqlalchemy.sql.compiler import SQLCompiler

from nestrel.store.native import Connection, fetch

_DRIVER = asyncpg_dialect()  # type: ignore[no-untyped-call]  # its constructor has no types

Row = TypeVar("Row")


class _Composed:
    def __init__(self, statement: Executable) -> None:
        self._statement = statement

    @cached_property
    def _compiled(self) -> tuple[str, tuple[str, ...], dict[str, Any]]:
        """Its text in the driver's form, the names of its parameters in their order, and its constants."""
        assert isinstance(self._statement, ClauseElement)
        compiled = self._statement.compile(dialect=_DRIVER)
        assert isinstance(compiled, SQLCompiler)
        assert compiled.positiontup is not None
        assert not compiled.post_compile_params, "an IN is spelt out, or an ANY of an array"
        constants = {name: value for name, value in compiled.params.items() if not compiled.binds[name].required}
        return str(compiled), tuple(compiled.positiontup), constants

    @property
    def sql(self) -> str:
        """Its text, as it is sent."""
        return self._compiled[0]

    @property
    def names(self) -> tuple[str, ...]:
        """Its parameters and constants, in the order in which they are sent."""
        return self._compiled[1]

    @property
    def constants(self) -> dict[str, Any]:
        """What stands in it beside its parameters, by name."""
        return self._compiled[2]

    async def _rows(self, connection: Connection, values: dict[str, Any]) -> Sequence[Any]:
        sql, names, constants = self._compiled
        if values.keys() - set(names):
            raise KeyError(f"it has the parameters {', '.join(names)}")
        return await fetch(connection, sql, *[values[name] if name in values else constants[name] for name in names])


class Query(_Composed, Generic[Row]):
    """A statement that answers rows; `record` makes one of the columns of each. All raise `KeyError` where a parameter
    is missing, or is none of the statement's."""

    def __init__(self, statement: Executable, record: Callable[..., Row]) -> None:
        super().__init__(statement)
        self._record = record

    async def fetch(self, connection: Connection, **values: Any) -> list[Row]:
        """All rows."""
        return [self._record(*row) for row in await self._rows(connection, values)]

    async def first(self, connection: Connection, **values: Any) -> Row | None:
        """The first row; None where there is none."""
        found = await self._rows(connection, values)
        return self._record(*found[0]) if found else None


class Change(_Composed):
    """A statement that answers nothing."""

    async def run(self, connection: Connection, **values: Any) -> None:
        """Run it. Raises `KeyError` as a `Query` does."""
        await self._rows(connection, values)


def written(expression: ColumnElement[Any]) -> str:
    """An expression as text, for the statements that are text; its constants stand in it, and its columns without the
    table, which may have another name there."""
    how = {"literal_binds": True, "include_table": False}
    return str(expression.compile(dialect=_DRIVER, compile_kwargs=how))


def only(value: Row) -> Row:
    """The record of a row of one column: what stands in it."""
    return value
