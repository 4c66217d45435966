"""Keeping out, blocking, hiding, slowing down; and the two of a direct conversation become equals."""

from nestrel.store.epochs import CURRENT
from nestrel.store.migrations.naming import run

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None

# `blocked` says of a direct conversation that one of its two has blocked the other, so that a post looks nothing up;
# `hidden_head` is the head at which a member has hidden it.
STATEMENTS = """
CREATE TABLE nestrel.kept_out (
    conversation_id uuid        NOT NULL,
    user_id         text        NOT NULL,
    until           timestamptz,
    reason          text,
    kept_out_by     text        NOT NULL,
    kept_out_at     timestamptz NOT NULL DEFAULT clock_timestamp(),
    CONSTRAINT kept_out_pkey PRIMARY KEY (conversation_id, user_id)
);
CREATE INDEX kept_out_user ON nestrel.kept_out (user_id);
CREATE TABLE nestrel.blocks (
    user_id    text        NOT NULL,
    blocked_id text        NOT NULL,
    blocked_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    CONSTRAINT blocks_pkey PRIMARY KEY (user_id, blocked_id)
);
CREATE INDEX blocks_blocked ON nestrel.blocks (blocked_id);
ALTER TABLE nestrel.conversations ADD COLUMN blocked boolean NOT NULL DEFAULT false;
ALTER TABLE nestrel.conversations ADD COLUMN post_interval integer;
ALTER TABLE nestrel.members ADD COLUMN hidden_head bigint
"""
# With a new `rev`, as every change of a member's row, so that every copy learns of it.
EQUALS = f"""
WITH moved AS (
    UPDATE nestrel.conversations c SET rev = rev + 1, moved_xid = pg_current_xact_id(),
        epochs = CASE WHEN c.epochs[1] = {CURRENT} THEN c.epochs ELSE ({CURRENT} || c.epochs)[1:8] END,
        begins = CASE WHEN c.epochs[1] = {CURRENT} THEN c.begins ELSE (c.rev || c.begins)[1:8] END
    WHERE kind = 'direct' AND closed_at IS NULL
      AND EXISTS (SELECT FROM nestrel.members m WHERE m.conversation_id = c.id AND m.role <> 'writer')
    RETURNING id, rev
)
UPDATE nestrel.members m SET role = 'writer', rev = moved.rev, moved_xid = pg_current_xact_id()
FROM moved WHERE m.conversation_id = moved.id AND m.role <> 'writer'
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
    run(EQUALS)
