"""Conversations of everyone, and crowds, of which copies hold only who rules them."""

from nestrel.core import limits
from nestrel.store.migrations.naming import run

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None

# `crowd` says that there were once more members than change sets carry; it stays, for copies could not be brought back
# to all of them. `ranked` marks who is or was owner or moderator: of a crowd their rows alone are carried, the last one
# too, which says that they are so no more.
STATEMENTS = f"""
ALTER TABLE nestrel.conversations ADD COLUMN is_default boolean NOT NULL DEFAULT false;
ALTER TABLE nestrel.conversations ADD COLUMN crowd boolean NOT NULL DEFAULT false;
ALTER TABLE nestrel.members ADD COLUMN ranked boolean NOT NULL DEFAULT false;
UPDATE nestrel.members SET ranked = true WHERE role IN ('owner', 'moderator');
UPDATE nestrel.conversations SET crowd = true WHERE member_count > {limits.MEMBERS_CARRIED};
CREATE INDEX members_ranked ON nestrel.members (conversation_id, rev) WHERE ranked;
CREATE INDEX conversations_default ON nestrel.conversations (id) WHERE is_default;
CREATE TABLE nestrel.joining (
    conversation_id uuid NOT NULL CONSTRAINT joining_pkey PRIMARY KEY,
    after           text NOT NULL DEFAULT ''
)
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
