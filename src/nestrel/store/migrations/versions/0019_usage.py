"""Usage by the hour, and the connections of all processes."""

from nestrel.store.migrations.naming import run

revision = "0019"
down_revision = "0018"
branch_labels = None
depends_on = None

# A process adds what it has counted every few seconds; `usage_told` has the number of each one's last addition, so that
# one whose commit was not heard of is not added twice. The samples of connections and their list are of passing worth.
STATEMENTS = """
CREATE TABLE nestrel.usage_commands (
    hour            timestamptz NOT NULL,
    conversation_id uuid        NOT NULL,
    user_id         text        NOT NULL,
    posts           bigint      NOT NULL,
    edits           bigint      NOT NULL,
    removals        bigint      NOT NULL,
    reactions       bigint      NOT NULL,
    receipts        bigint      NOT NULL,
    CONSTRAINT usage_commands_pkey PRIMARY KEY (hour, conversation_id, user_id)
) WITH (fillfactor = 80);
CREATE INDEX usage_commands_conversation ON nestrel.usage_commands (conversation_id, hour);
CREATE INDEX usage_commands_user ON nestrel.usage_commands (user_id, hour);
CREATE TABLE nestrel.usage_people (
    hour             timestamptz NOT NULL,
    user_id          text        NOT NULL,
    deliveries       bigint      NOT NULL,
    connections_peak integer     NOT NULL,
    CONSTRAINT usage_people_pkey PRIMARY KEY (hour, user_id)
) WITH (fillfactor = 80);
CREATE INDEX usage_people_user ON nestrel.usage_people (user_id, hour);
CREATE TABLE nestrel.usage_places (
    hour            timestamptz NOT NULL,
    conversation_id uuid        NOT NULL,
    deliveries      bigint      NOT NULL,
    stored_bytes    bigint,
    CONSTRAINT usage_places_pkey PRIMARY KEY (hour, conversation_id)
) WITH (fillfactor = 80);
CREATE INDEX usage_places_conversation ON nestrel.usage_places (conversation_id, hour);
CREATE TABLE nestrel.usage_hours (
    hour             timestamptz NOT NULL CONSTRAINT usage_hours_pkey PRIMARY KEY,
    connections_peak integer     NOT NULL DEFAULT 0,
    stored_bytes     bigint
);
CREATE TABLE nestrel.usage_told (
    node    text        NOT NULL CONSTRAINT usage_told_pkey PRIMARY KEY,
    n       bigint      NOT NULL,
    told_at timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE UNLOGGED TABLE nestrel.usage_samples (
    slot bigint  NOT NULL,
    node text    NOT NULL,
    n    integer NOT NULL,
    CONSTRAINT usage_samples_pkey PRIMARY KEY (slot, node)
);
CREATE UNLOGGED TABLE nestrel.connections (
    connection_id text        NOT NULL CONSTRAINT connections_pkey PRIMARY KEY,
    user_id       text        NOT NULL,
    node          text        NOT NULL,
    since         timestamptz NOT NULL,
    kind          text        NOT NULL,
    follows       integer     NOT NULL,
    behind        integer     NOT NULL,
    ended         boolean     NOT NULL DEFAULT false
) WITH (fillfactor = 80);
CREATE INDEX connections_user ON nestrel.connections (user_id);
CREATE INDEX connections_node ON nestrel.connections (node) WHERE ended
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
