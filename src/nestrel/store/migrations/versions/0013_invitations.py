"""Invitations: what lets somebody join who has a token."""

from nestrel.store.migrations.naming import run

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None

# One that was taken back, or whose maker may not make it any more, is gone: it does not come back. One that is used up,
# or past its time, stays for a while, to be told from one that never was.
STATEMENTS = """
CREATE TABLE nestrel.invitations (
    conversation_id uuid        NOT NULL,
    id              uuid        NOT NULL,
    token_hash      bytea       NOT NULL CONSTRAINT invitations_token UNIQUE,
    role            text        NOT NULL,
    uses_left       integer,
    expires_at      timestamptz,
    created_by      text        NOT NULL,
    by_service      boolean     NOT NULL,
    created_at      timestamptz NOT NULL DEFAULT clock_timestamp(),
    CONSTRAINT invitations_pkey PRIMARY KEY (conversation_id, id)
)
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
