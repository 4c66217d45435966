"""How many connections follow a conversation, at most in an hour."""

from nestrel.store.migrations.naming import run

revision = "0022"
down_revision = "0021"
branch_labels = None
depends_on = None

# By process what is followed now; by conversation the most of the hour that was last looked at. Both of passing worth.
STATEMENTS = """
CREATE UNLOGGED TABLE nestrel.usage_follows (
    conversation_id uuid    NOT NULL,
    node            text    NOT NULL,
    n               integer NOT NULL,
    CONSTRAINT usage_follows_pkey PRIMARY KEY (conversation_id, node)
) WITH (fillfactor = 80);
CREATE INDEX usage_follows_node ON nestrel.usage_follows (node);
CREATE UNLOGGED TABLE nestrel.usage_follow_peaks (
    conversation_id uuid        NOT NULL CONSTRAINT usage_follow_peaks_pkey PRIMARY KEY,
    hour            timestamptz NOT NULL,
    n               integer     NOT NULL
) WITH (fillfactor = 80);
ALTER TABLE nestrel.usage_places ADD COLUMN connections_peak integer NOT NULL DEFAULT 0
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
