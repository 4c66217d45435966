"""Durable consumers of the journal, and webhooks, which are some of them."""

from nestrel.store.migrations.naming import run

revision = "0024"
down_revision = "0023"
branch_labels = None
depends_on = None

# A consumer stands at `cursor`, which is opaque here. Whoever holds it writes under the `lease` that it was given,
# which grows with each that takes it: a holder that was away for too long writes nothing any more.
STATEMENTS = """
CREATE TABLE nestrel.consumers (
    name       text        NOT NULL CONSTRAINT consumers_pkey PRIMARY KEY,
    wanted     boolean     NOT NULL DEFAULT true,
    lease      bigint      NOT NULL DEFAULT 0,
    holder     text,
    held_until timestamptz NOT NULL DEFAULT '-infinity',
    cursor     text,
    kept_at    timestamptz NOT NULL DEFAULT clock_timestamp()
);
INSERT INTO nestrel.consumers (name) VALUES ('search');
CREATE TABLE nestrel.webhooks (
    id               uuid        NOT NULL CONSTRAINT webhooks_pkey PRIMARY KEY,
    url              text        NOT NULL,
    type             text        NOT NULL CONSTRAINT webhooks_type_check CHECK (type IN ('changes', 'notices')),
    conversation_id  uuid,
    secret           bytea       NOT NULL,
    old_secret       bytea,
    old_secret_until timestamptz,
    state            text        NOT NULL DEFAULT 'active'
        CONSTRAINT webhooks_state_check CHECK (state IN ('active', 'paused', 'stopped')),
    created_by       text        NOT NULL,
    created_at       timestamptz NOT NULL DEFAULT clock_timestamp(),
    attempt          integer     NOT NULL DEFAULT 0,
    failing_since    timestamptz,
    next_at          timestamptz,
    replay_from      timestamptz,
    replay_after     uuid,
    replay_seq       bigint
);
CREATE TABLE nestrel.webhook_deliveries (
    webhook_id uuid        NOT NULL,
    n          bigint      NOT NULL GENERATED ALWAYS AS IDENTITY,
    at         timestamptz NOT NULL,
    attempt    integer     NOT NULL,
    status     integer,
    ms         integer     NOT NULL,
    error      text,
    next_at    timestamptz,
    CONSTRAINT webhook_deliveries_pkey PRIMARY KEY (webhook_id, n)
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000)
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
