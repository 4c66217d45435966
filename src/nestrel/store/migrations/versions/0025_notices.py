"""Notices: what a member wants to be told of, where their devices are told, and what is to be told them once more."""

import secrets

import sqlalchemy as sa
from alembic import op

from nestrel.store.migrations.naming import run, schema
from nestrel.store.native import in_schema

revision = "0025"
down_revision = "0024"
branch_labels = None
depends_on = None

# A preference has no `rev` and is in no member's row: it is nobody else's business, and nothing that is followed.
# Whom an edit has named is told from whom the post did by the transaction; what was there before has none.
STATEMENTS = """
CREATE TABLE nestrel.notice_preferences (
    conversation_id uuid NOT NULL,
    user_id         text NOT NULL,
    notify          text CONSTRAINT notice_preferences_notify_check CHECK (notify IN ('all', 'mentions', 'none')),
    notify_after    timestamptz,
    CONSTRAINT notice_preferences_pkey PRIMARY KEY (conversation_id, user_id)
);
CREATE INDEX notice_preferences_all ON nestrel.notice_preferences (conversation_id, user_id) WHERE notify = 'all';
CREATE INDEX notice_preferences_user ON nestrel.notice_preferences (user_id);
CREATE TABLE nestrel.push_subscriptions (
    id         uuid        NOT NULL CONSTRAINT push_subscriptions_pkey PRIMARY KEY,
    user_id    text        NOT NULL,
    endpoint   text        NOT NULL CONSTRAINT push_subscriptions_endpoint UNIQUE,
    p256dh     bytea       NOT NULL,
    auth       bytea       NOT NULL,
    expires_at timestamptz,
    session    bytea,
    created_at timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE INDEX push_subscriptions_user ON nestrel.push_subscriptions (user_id, id);
CREATE INDEX push_subscriptions_session ON nestrel.push_subscriptions (session) WHERE session IS NOT NULL;
CREATE TABLE nestrel.push_again (
    subscription_id uuid        NOT NULL
        CONSTRAINT push_again_subscription_id_fkey REFERENCES nestrel.push_subscriptions
        ON DELETE CASCADE ON UPDATE CASCADE,
    conversation_id uuid        NOT NULL,
    seq             bigint      NOT NULL,
    attempt         integer     NOT NULL,
    next_at         timestamptz NOT NULL,
    CONSTRAINT push_again_pkey PRIMARY KEY (subscription_id, conversation_id, seq)
);
CREATE INDEX push_again_next ON nestrel.push_again (next_at);
ALTER TABLE nestrel.mentions ADD COLUMN moved_xid xid8;
ALTER TABLE nestrel.mentions ALTER COLUMN moved_xid SET DEFAULT pg_current_xact_id();
INSERT INTO nestrel.consumers (name) VALUES ('push')
"""
_ORDER = 0xFFFFFFFF00000000FFFFFFFFFFFFFFFFBCE6FAADA7179E84F3B9CAC2FC632551
"""Of the curve P-256: a private key is a number below it (RFC 8292, 3.2)."""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
    insert = in_schema("INSERT INTO nestrel.service_secrets VALUES ('push', :value)", schema())
    key = 1 + secrets.randbelow(_ORDER - 1)
    op.get_bind().execute(sa.text(insert), {"value": key.to_bytes(32)})
