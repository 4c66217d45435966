"""What all tables share: their metadata, and the types that SQLAlchemy has no name for."""

from __future__ import annotations

from typing import Any

from sqlalchemy import DateTime, MetaData, Text, func
from sqlalchemy.types import UserDefinedType

SCHEMA = "nestrel"
"""The schema that all tables and statements name; a database with another one has it put in its place."""

metadata = MetaData(
    schema=SCHEMA,
    # What PostgreSQL calls them by itself; all others are named where they stand.
    naming_convention={"pk": "%(table_name)s_pkey", "fk": "%(table_name)s_%(column_0_N_name)s_fkey"},
)

Moment = DateTime(timezone=True)
"""A moment, to the microsecond."""

CodePoints = Text(collation="C")
"""Text in the order of its code points, whatever the database's language."""

NOW = func.clock_timestamp()


class Xid8(UserDefinedType[int]):
    """The number of a transaction, which does not wrap around (PostgreSQL 13 and later)."""

    cache_ok = True

    def get_col_spec(self, **_: Any) -> str:
        return "xid8"


class Snapshot(UserDefinedType[str]):
    """Which transactions are seen, as `pg_current_snapshot` gives it."""

    cache_ok = True

    def get_col_spec(self, **_: Any) -> str:
        return "pg_snapshot"
