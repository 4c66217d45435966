"""Everything up to here, as it stands after the revisions that made it one by one.

What each table is for is said where code names it (`nestrel.store.tables`); these statements stay as they are."""

import os
import re
import secrets
from pathlib import Path

import sqlalchemy as sa
from alembic import op

from nestrel.store.epochs import new_id
from nestrel.store.migrations.naming import run, schema
from nestrel.store.native import in_schema

revision = "0027"
down_revision = None
branch_labels = None
depends_on = None

_TEXTS = Path(__file__).parents[1] / "everything"
_TABLES = ("conversations", "messages", "retention", "people", "files", "consuming", "running")
_P256_ORDER = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551
"""A private key of the curve is a number below it (RFC 8292, 3.2)."""

_ROWS = """
INSERT INTO nestrel.service_rule (version) VALUES (1);
INSERT INTO nestrel.consumers (name) VALUES ('search'), ('push');
INSERT INTO nestrel.locks
SELECT name FROM unnest(ARRAY['posts waiting', 'adopting names', 'retention']) AS name
UNION ALL SELECT 'pair ' || n FROM generate_series(0, 255) n;
INSERT INTO nestrel.journal_trimmed
SELECT CAST(CAST(CAST(CAST(pg_snapshot_xmax(pg_current_snapshot()) AS text) AS bigint) - 1 AS text) AS xid8);
CREATE TABLE nestrel.audit_rest PARTITION OF nestrel.audit DEFAULT;
SELECT nestrel.audit_months_v1(24)
"""
_FIRST_EPOCH = """
INSERT INTO nestrel.epochs (id, system, database_id, timeline, made_in)
SELECT {first}, system_identifier, (SELECT oid FROM pg_database WHERE datname = current_database()),
       left(pg_walfile_name(pg_current_wal_insert_lsn()), 8), 'nestrel.epochs'::regclass FROM pg_control_system()
"""


def _run_all(statements: str, between: str) -> None:
    for statement in re.split(between, statements, flags=re.MULTILINE):
        if statement.strip():
            run(statement)


def upgrade() -> None:
    for name in _TABLES:
        _run_all((_TEXTS / f"{name}.sql").read_text(), r";$")
    _run_all((_TEXTS / "functions.sql").read_text(), r"^;$")  # their bodies have semicolons of their own
    _run_all(_ROWS, r";$")
    run(_FIRST_EPOCH.format(first=new_id()))
    insert = sa.text(in_schema("INSERT INTO nestrel.service_secrets VALUES (:name, :value)", schema()))
    push_key = 1 + secrets.randbelow(_P256_ORDER - 1)
    # Every process of the service has the same, and a restored copy.
    for name, value in (("cursor", os.urandom(32)), ("push", push_key.to_bytes(32))):
        op.get_bind().execute(insert, {"name": name, "value": value})
