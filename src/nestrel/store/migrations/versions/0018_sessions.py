"""Browser sessions that were ended before their time."""

from nestrel.store.migrations.naming import run

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None

STATEMENTS = """
CREATE TABLE nestrel.ended_sessions (
    id         bytea       NOT NULL CONSTRAINT ended_sessions_pkey PRIMARY KEY,
    expires_at timestamptz NOT NULL,
    ended_at   timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE INDEX ended_sessions_at ON nestrel.ended_sessions (ended_at)
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
