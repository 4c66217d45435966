"""Conversations, members, profiles and messages, with two counters each and the transaction that moved them."""

import os

import sqlalchemy as sa
from alembic import op

from nestrel.store.migrations.naming import run, schema
from nestrel.store.native import in_schema

revision = "0001"
down_revision = None
branch_labels = None
depends_on = None

# Attributes are compact JSON as text: what was sent comes back to the byte, and no driver parses a row to serve it.
# The conversation row is updated by every transaction that writes into it. It stays a heap-only update, with no index
# entry to write, because no index covers a moving column and the page keeps free space.
TABLES = """
CREATE TABLE nestrel.service_secrets (name text PRIMARY KEY, value bytea NOT NULL);

CREATE TABLE nestrel.profiles (
    user_id      text PRIMARY KEY,
    display_name text NOT NULL,
    picture      text,
    rev          bigint NOT NULL
);

CREATE TABLE nestrel.conversations (
    id            uuid PRIMARY KEY,
    kind          text NOT NULL CHECK (kind IN ('group', 'direct', 'bulletin')),
    visibility    text NOT NULL CHECK (visibility IN ('open', 'closed')),
    name          text,
    name_key      text,
    title         text NOT NULL,
    attributes    text,
    direct_pair   text,
    created_by    text NOT NULL,
    created_at    timestamptz NOT NULL,
    head          bigint NOT NULL DEFAULT 0,
    floor         bigint NOT NULL DEFAULT 1,
    rev           bigint NOT NULL,
    own_rev       bigint NOT NULL,
    message_count bigint NOT NULL DEFAULT 0,
    member_count  integer NOT NULL DEFAULT 0,
    last_at       timestamptz NOT NULL,
    moved_xid     xid8 NOT NULL DEFAULT pg_current_xact_id(),
    closed_at     timestamptz,
    erased        boolean NOT NULL DEFAULT false,
    CHECK (floor >= 1 AND head >= floor - 1),
    CHECK (message_count BETWEEN 0 AND head)
) WITH (fillfactor = 70);

CREATE UNIQUE INDEX conversations_name ON nestrel.conversations (name_key) WHERE closed_at IS NULL;
CREATE UNIQUE INDEX conversations_direct_pair ON nestrel.conversations (direct_pair) WHERE closed_at IS NULL;
CREATE INDEX conversations_open ON nestrel.conversations (id) WHERE visibility = 'open' AND closed_at IS NULL;
CREATE INDEX conversations_to_erase ON nestrel.conversations (id) WHERE closed_at IS NOT NULL AND NOT erased;

CREATE TABLE nestrel.members (
    conversation_id uuid NOT NULL REFERENCES nestrel.conversations (id),
    user_id         text NOT NULL,
    role            text NOT NULL CHECK (role IN ('owner', 'moderator', 'writer', 'reader')),
    joined_at       timestamptz NOT NULL,
    left_at         timestamptz,
    left_reason     text CHECK (left_reason IN ('left', 'removed')),
    read_seq        bigint NOT NULL DEFAULT 0,
    read_at         timestamptz,
    rev             bigint NOT NULL,
    moved_xid       xid8 NOT NULL DEFAULT pg_current_xact_id(),
    PRIMARY KEY (conversation_id, user_id)
) WITH (fillfactor = 80);

CREATE INDEX members_of_user ON nestrel.members (user_id, conversation_id);
CREATE INDEX members_rev ON nestrel.members (conversation_id, rev);

CREATE TABLE nestrel.messages (
    conversation_id uuid NOT NULL,
    seq             bigint NOT NULL,
    rev             bigint NOT NULL,
    author_n        bigint NOT NULL,
    created_at      timestamptz NOT NULL,
    edited_at       timestamptz,
    removed_at      timestamptz,
    moved_xid       xid8 NOT NULL DEFAULT pg_current_xact_id(),
    reply_to        bigint,
    edits           integer NOT NULL DEFAULT 0,
    changed         boolean NOT NULL DEFAULT false,
    author_id       text NOT NULL,
    removed_by      text,
    format          text NOT NULL CHECK (format IN ('plain', 'markdown')),
    key_hash        bytea,
    fingerprint     bytea,
    attributes      text,
    body            text NOT NULL,
    PRIMARY KEY (conversation_id, seq)
);

-- A hash over author and key: short, and no other index can be mistaken for the way to it.
CREATE UNIQUE INDEX messages_key ON nestrel.messages (conversation_id, key_hash) WHERE key_hash IS NOT NULL;
CREATE INDEX messages_author ON nestrel.messages (conversation_id, author_id, seq);
-- New rows are found by seq; only rows that changed after they were made need a way by rev.
CREATE INDEX messages_changed ON nestrel.messages (conversation_id, rev) WHERE changed;
-- Few authors fill one conversation, but a look-up by author must never be planned as a walk through all messages.
ALTER TABLE nestrel.messages ALTER author_id SET (n_distinct = -0.1);
CREATE INDEX messages_removed ON nestrel.messages (conversation_id, seq) INCLUDE (author_id) WHERE removed_at IS NOT
NULL;
"""

# created_at never decreases with seq, so the message of a moment is found by halving on the primary key, and time
# needs no index of its own. Kept rows run without a gap from floor to head.
SEQ_AT = """
CREATE FUNCTION nestrel.seq_at_v1(conversation uuid, moment timestamptz) RETURNS bigint
LANGUAGE plpgsql STABLE AS $$
DECLARE
    low bigint; high bigint; middle bigint; at timestamptz;
BEGIN
    SELECT c.floor, c.head + 1 INTO low, high FROM nestrel.conversations c WHERE c.id = conversation;
    WHILE low < high LOOP
        middle := (low + high) / 2;
        SELECT m.created_at INTO at FROM nestrel.messages m WHERE m.conversation_id = conversation AND m.seq = middle;
        IF at IS NULL OR at < moment THEN low := middle + 1; ELSE high := middle; END IF;
    END LOOP;
    RETURN low;
END $$;
COMMENT ON FUNCTION nestrel.seq_at_v1 IS 'The lowest kept seq written at or after the moment; head + 1 if none.';
"""


def upgrade() -> None:
    for statement in TABLES.split(";\n"):
        if statement.strip():
            run(statement)
    body, comment = SEQ_AT.split("$$;\n")
    run(body + "$$")
    run(comment)
    # Cursors are sealed with this key: every process of the service, and a restored copy, opens the same ones.
    insert = in_schema("INSERT INTO nestrel.service_secrets VALUES ('cursor', :value)", schema())
    op.get_bind().execute(sa.text(insert), {"value": os.urandom(32)})
