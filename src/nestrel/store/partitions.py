"""Partitions: the rows of conversations hashed over several tables, for a store that has outgrown one.

The conversations themselves, with their names and pairs, stay in one table: its rows are few and small beside theirs.
The statements are the same over both; `tests/test_plans.py` explains each over both. Off unless asked for: one plan
for all values locks every partition of a table that it names, so that each look-up costs more (decisions/037).
"""

from __future__ import annotations

from collections.abc import Sequence

import asyncpg

from nestrel.store import addresses
from nestrel.store.native import SCHEMA

OWNED = (
    "messages", "members", "message_edits", "reactions", "reaction_counts", "expired_keys", "archive_segments",
    "archive_authors", "discarded_runs", "mentions",
)  # fmt: skip
"""Tables of which each conversation has its own rows, found by it."""

_IN_USE = """
SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()
AND application_name LIKE 'nestrel%'
"""
_PLAIN = "SELECT 1 FROM pg_class WHERE oid = $1::regclass AND relkind = 'r'"
_INDEXES = """
SELECT c.relname, pg_get_indexdef(i.indexrelid), k.conname IS NOT NULL, pg_get_constraintdef(k.oid)
FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid
LEFT JOIN pg_constraint k ON k.conindid = i.indexrelid AND k.contype IN ('p', 'u')
WHERE i.indrelid = $1::regclass ORDER BY c.relname
"""
_PARTITION_KEYS = (
    "SELECT conname, pg_get_constraintdef(oid) FROM pg_constraint WHERE conrelid = $1::regclass AND contype = 'f'"
)
_OPTIONS = "SELECT array_to_string(reloptions, ', ') FROM pg_class WHERE oid = $1::regclass"
_OF_PARTITION = """
SELECT c.relname FROM pg_inherits h JOIN pg_class c ON c.oid = h.inhrelid
WHERE h.inhparent = $1::regclass ORDER BY c.oid
"""


class InUse(Exception):
    """Services, or other commands, are connected: each statement that they hold is of the tables as they are."""


async def partition(url: str, parts: int, schema: str = SCHEMA) -> list[str]:
    """Hash the rows of conversations over so many partitions (2 to 64), all in one transaction; returns the tables
    that were not partitioned before. It takes as long as writing all rows anew, and as much room.

    Raises:
        InUse: a service runs on the database.
        asyncpg.PostgresError: the database cannot do it; nothing has changed.
    """
    plain = addresses.driver(url)
    connection = await asyncpg.connect(plain, timeout=5)
    try:
        async with connection.transaction():
            if await connection.fetchval(_IN_USE):
                raise InUse
            done = []
            for table in OWNED:
                if await connection.fetchval(_PLAIN, f"{schema}.{table}"):
                    for statement in await _statements(connection, schema, table, parts):
                        await connection.execute(statement)
                    await _number(connection, schema, table)
                    done.append(table)
        return done
    finally:
        await connection.close(timeout=5)


async def _statements(connection: asyncpg.Connection, schema: str, table: str, parts: int) -> list[str]:
    """What makes a table anew in partitions, with its rows."""
    old = f"{schema}.{table}_before"
    indexes = await connection.fetch(_INDEXES, f"{schema}.{table}")
    keys = await connection.fetch(_PARTITION_KEYS, f"{schema}.{table}")
    options = await connection.fetchval(_OPTIONS, f"{schema}.{table}")
    stored = f" WITH ({options})" if options else ""
    new = f"{schema}.{table}"
    return [
        f"ALTER TABLE {new} RENAME TO {table}_before",
        f"CREATE TABLE {new} (LIKE {old} INCLUDING DEFAULTS INCLUDING CONSTRAINTS INCLUDING STORAGE "
        "INCLUDING GENERATED INCLUDING COMPRESSION) PARTITION BY HASH (conversation_id)",
        *(
            f"CREATE TABLE {new}_p{n} PARTITION OF {new} FOR VALUES WITH (MODULUS {parts}, REMAINDER {n}){stored}"
            for n in range(parts)
        ),
        f"INSERT INTO {new} SELECT * FROM {old}",
        f"DROP TABLE {old}",
        *_again(new, indexes),
        *(f"ALTER TABLE {new} ADD CONSTRAINT {name} {text}" for name, text in keys),
    ]


def _again(table: str, indexes: Sequence[asyncpg.Record]) -> list[str]:
    """The indexes of a table, under their names; they were written down before it was renamed."""
    return [
        f"ALTER TABLE {table} ADD CONSTRAINT {name} {constraint}" if constrains else definition
        for name, definition, constrains, constraint in indexes
    ]


async def _number(connection: asyncpg.Connection, schema: str, table: str) -> None:
    """Name the index of each partition after the whole one, with its number: what a violation says is then known."""
    for (
        name,
        *_,
    ) in await connection.fetch(_INDEXES, f"{schema}.{table}"):
        for n, (part,) in enumerate(await connection.fetch(_OF_PARTITION, f"{schema}.{name}")):
            await connection.execute(f"ALTER INDEX {schema}.{part} RENAME TO {name}_p{n}")
