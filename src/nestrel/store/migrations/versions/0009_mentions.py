"""Mentions: who is named in a message."""

from nestrel.store.migrations.naming import run

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None

# A message carries those whom it names, so that a page needs no join; a row for each of them is there to be counted
# above their receipt. An author has none for oneself.
STATEMENTS = """
ALTER TABLE nestrel.messages ADD COLUMN mentions text[];
CREATE TABLE nestrel.mentions (
    conversation_id uuid   NOT NULL,
    user_id         text   NOT NULL,
    seq             bigint NOT NULL,
    CONSTRAINT mentions_pkey PRIMARY KEY (conversation_id, user_id, seq)
);
CREATE INDEX mentions_seq ON nestrel.mentions (conversation_id, seq)
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
