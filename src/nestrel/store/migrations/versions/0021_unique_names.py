"""Names that are one person's alone."""

from nestrel.store.migrations.naming import run

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None

# `key` is what names that look alike have in common. A name that was given up stays its last owner's for a time; a
# person's id is theirs for good.
STATEMENTS = """
CREATE TABLE nestrel.held_names (
    user_id     text        NOT NULL,
    kind        text        NOT NULL CONSTRAINT held_names_kind_check CHECK (kind IN ('name', 'id')),
    key         text        NOT NULL,
    name        text        NOT NULL,
    given_up_at timestamptz,
    CONSTRAINT held_names_pkey PRIMARY KEY (user_id, kind, key)
);
CREATE INDEX held_names_key ON nestrel.held_names (key)
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
