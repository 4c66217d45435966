"""Roles of the database: one that owns the schema and migrates it, one that serves and can do no more, and those of
applications, which can leave posts there and nothing else."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import asyncpg

from nestrel.store import addresses
from nestrel.store.database import SETTINGS, Database
from nestrel.store.native import SCHEMA, fetch

_OWN = ("application_name",)
_EXISTS = "SELECT 1 FROM pg_roles WHERE rolname = $1"
_OWNED = """
SELECT format('%s %I.%I', CASE c.relkind WHEN 'S' THEN 'SEQUENCE' WHEN 'v' THEN 'VIEW' ELSE 'TABLE' END,
              n.nspname, c.relname)
FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = $1 AND c.relkind IN ('r', 'p', 'v') ORDER BY c.oid
"""
_FUNCTIONS = """
SELECT p.oid::regprocedure::text FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname = $1
"""
_AUDIT = """
SELECT relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
WHERE n.nspname = $1 AND c.relkind IN ('r', 'p') AND (relname = 'audit' OR relname ~ '^audit_([0-9]{6}|rest)$')
"""
LEFT_BY = ("post", "make_conversation", "put_member", "remove_member", "put_person")
"""The functions by which an application leaves something in its transaction."""
_ACT = ("audit_id", "actor", "act", "conversation_id", "user_id", "seq", "before", "after", "request_id")
"""The columns of an act that whoever serves sets; when it was is the database's to say."""
_MORE = """
SELECT current_user, r.rolsuper, r.rolcreaterole OR r.rolcreatedb OR r.rolreplication OR r.rolbypassrls,
       pg_has_role(n.nspowner, 'USAGE'), has_schema_privilege(n.oid, 'CREATE'),
       has_table_privilege('nestrel.audit', 'INSERT, UPDATE, DELETE, TRUNCATE')
       OR has_table_privilege('nestrel.audit_reasons', 'UPDATE, DELETE, TRUNCATE')
FROM pg_roles r, pg_namespace n WHERE r.rolname = current_user AND n.nspname = $1
"""


class Powers(NamedTuple):
    """What the role that is connected can do beyond serving."""

    role: str
    superuser: bool
    makes_others: bool
    owns: bool
    creates: bool
    changes_audit: bool

    @property
    def more(self) -> list[str]:
        """In words; nothing where it can do no more than it must."""
        if self.superuser:
            return ["is a superuser"]
        words = (
            (self.makes_others, "makes roles or databases"), (self.owns, "owns the schema"),
            (self.creates, "makes tables"), (self.changes_audit, "can change the audit"),
        )  # fmt: skip
        return [text for can, text in words if can]


async def make(url: str, owner: str, serving: str, schema: str = SCHEMA, posting: Sequence[str] = ()) -> list[str]:
    """Make the roles where they are missing, give the schema to the owner, and let the second do what serving takes and
    those of applications (`posting`) leave posts in their transactions, and nothing else; returns the roles that are
    new. Done again after an upgrade it brings rights to date.

    Raises:
        asyncpg.PostgresError: whoever is connected may not do that; nothing has changed.
    """
    plain = addresses.driver(url)
    connection = await asyncpg.connect(plain, timeout=5)
    try:
        async with connection.transaction():
            made = []
            for role in (owner, serving, *posting):
                if not await connection.fetchval(_EXISTS, role):
                    await connection.execute(f"CREATE ROLE {_quoted(role)} LOGIN")
                    made.append(role)
            for statement in await _statements(connection, _quoted(owner), _quoted(serving), schema):
                await connection.execute(statement)
            for role in posting:
                await connection.execute(f"GRANT USAGE ON SCHEMA {schema} TO {_quoted(role)}")
                for function in LEFT_BY:
                    await connection.execute(f"GRANT EXECUTE ON FUNCTION {schema}.{function} TO {_quoted(role)}")
        return made
    finally:
        await connection.close(timeout=5)


async def _statements(connection: asyncpg.Connection, owner: str, serving: str, schema: str) -> list[str]:
    rows = "SELECT, INSERT, UPDATE, DELETE"
    owned = [row[0] for row in await connection.fetch(_OWNED, schema)]
    functions = [row[0] for row in await connection.fetch(_FUNCTIONS, schema)]
    audit = [row[0] for row in await connection.fetch(_AUDIT, schema)]
    database = await connection.fetchval("SELECT quote_ident(current_database())")
    return [
        f"ALTER SCHEMA {schema} OWNER TO {owner}",
        *(f"ALTER {one} OWNER TO {owner}" for one in owned),
        *(f"ALTER FUNCTION {one} OWNER TO {owner}" for one in functions),
        f"REVOKE ALL ON SCHEMA {schema} FROM PUBLIC",
        f"REVOKE ALL ON SCHEMA {schema} FROM {serving}",
        # As each connection has them that the service makes itself; one through a pooler has them of the role.
        *(f"ALTER ROLE {serving} SET {name} = '{value}'" for name, value in SETTINGS.items() if name not in _OWN),
        f"GRANT CONNECT ON DATABASE {database} TO {owner}, {serving}",
        f"GRANT USAGE ON SCHEMA {schema} TO {serving}",
        f"REVOKE ALL ON ALL TABLES IN SCHEMA {schema} FROM {serving}",
        f"GRANT {rows} ON ALL TABLES IN SCHEMA {schema} TO {serving}",
        f"GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA {schema} TO {serving}",
        f"REVOKE ALL ON ALL FUNCTIONS IN SCHEMA {schema} FROM PUBLIC",
        f"GRANT EXECUTE ON ALL FUNCTIONS IN SCHEMA {schema} TO {serving}",
        # Rows come in by the whole, with the time of their transaction, and never go; its months are the owner's alone.
        *(f"REVOKE ALL ON {schema}.{one} FROM {serving}" for one in audit),
        f"GRANT SELECT, INSERT ({', '.join(_ACT)}) ON {schema}.audit TO {serving}",
        f"REVOKE UPDATE, DELETE ON {schema}.audit_reasons FROM {serving}",
        f"REVOKE INSERT, UPDATE, DELETE ON {schema}.alembic_version FROM {serving}",
        f"ALTER DEFAULT PRIVILEGES FOR ROLE {owner} IN SCHEMA {schema} GRANT {rows} ON TABLES TO {serving}",
        f"ALTER DEFAULT PRIVILEGES FOR ROLE {owner} IN SCHEMA {schema} GRANT USAGE, SELECT ON SEQUENCES TO {serving}",
        f"ALTER DEFAULT PRIVILEGES FOR ROLE {owner} IN SCHEMA {schema} GRANT EXECUTE ON FUNCTIONS TO {serving}",
    ]


async def powers(database: Database) -> Powers:
    """What the role of a service can do."""
    async with database.read() as connection:
        return Powers(*(await fetch(connection, _MORE, database.schema))[0])


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'
