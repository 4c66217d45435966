CREATE TABLE nestrel.asked (
    user_id TEXT NOT NULL,
    digest TEXT NOT NULL,
    text TEXT NOT NULL,
    at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT asked_pkey PRIMARY KEY (user_id, digest)
);
CREATE INDEX asked_at ON nestrel.asked (at);
CREATE UNLOGGED TABLE nestrel.connections (
    connection_id TEXT NOT NULL,
    user_id TEXT NOT NULL,
    node TEXT NOT NULL,
    since timestamptz NOT NULL,
    kind TEXT NOT NULL,
    follows INTEGER NOT NULL,
    behind INTEGER NOT NULL,
    ended BOOLEAN DEFAULT false NOT NULL,
    CONSTRAINT connections_pkey PRIMARY KEY (connection_id)
)
 WITH (fillfactor = 80);
CREATE INDEX connections_user ON nestrel.connections (user_id);
CREATE INDEX connections_node ON nestrel.connections (node) WHERE ended;
CREATE TABLE nestrel.locks (
    name TEXT NOT NULL,
    CONSTRAINT locks_pkey PRIMARY KEY (name)
);
CREATE UNLOGGED TABLE nestrel.processes (
    node TEXT NOT NULL,
    beat_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT processes_pkey PRIMARY KEY (node)
)
 WITH (fillfactor = 50);
CREATE UNLOGGED TABLE nestrel.rate_counts (
    policy TEXT NOT NULL,
    key TEXT NOT NULL,
    at BIGINT NOT NULL,
    slots INTEGER[] NOT NULL,
    CONSTRAINT rate_counts_pkey PRIMARY KEY (policy, key)
)
 WITH (fillfactor = 50);
CREATE UNLOGGED TABLE nestrel.rates (
    policy TEXT NOT NULL,
    key TEXT NOT NULL,
    at BIGINT NOT NULL,
    slots INTEGER[] NOT NULL,
    CONSTRAINT rates_pkey PRIMARY KEY (policy, key)
)
 WITH (fillfactor = 50);
CREATE TABLE nestrel.service_secrets (
    name TEXT NOT NULL,
    value BYTEA NOT NULL,
    CONSTRAINT service_secrets_pkey PRIMARY KEY (name)
);
CREATE TABLE nestrel.usage_commands (
    hour timestamptz NOT NULL,
    conversation_id UUID NOT NULL,
    user_id TEXT NOT NULL,
    posts BIGINT NOT NULL,
    edits BIGINT NOT NULL,
    removals BIGINT NOT NULL,
    reactions BIGINT NOT NULL,
    receipts BIGINT NOT NULL,
    CONSTRAINT usage_commands_pkey PRIMARY KEY (hour, conversation_id, user_id)
)
 WITH (fillfactor = 80);
CREATE INDEX usage_commands_conversation ON nestrel.usage_commands (conversation_id, hour);
CREATE INDEX usage_commands_user ON nestrel.usage_commands (user_id, hour);
CREATE UNLOGGED TABLE nestrel.usage_follow_peaks (
    conversation_id UUID NOT NULL,
    hour timestamptz NOT NULL,
    n INTEGER NOT NULL,
    CONSTRAINT usage_follow_peaks_pkey PRIMARY KEY (conversation_id)
)
 WITH (fillfactor = 80);
CREATE UNLOGGED TABLE nestrel.usage_follows (
    conversation_id UUID NOT NULL,
    node TEXT NOT NULL,
    n INTEGER NOT NULL,
    CONSTRAINT usage_follows_pkey PRIMARY KEY (conversation_id, node)
)
 WITH (fillfactor = 80);
CREATE INDEX usage_follows_node ON nestrel.usage_follows (node);
CREATE TABLE nestrel.usage_hours (
    hour timestamptz NOT NULL,
    connections_peak INTEGER DEFAULT 0 NOT NULL,
    stored_bytes BIGINT,
    CONSTRAINT usage_hours_pkey PRIMARY KEY (hour)
);
CREATE TABLE nestrel.usage_people (
    hour timestamptz NOT NULL,
    user_id TEXT NOT NULL,
    deliveries BIGINT NOT NULL,
    connections_peak INTEGER NOT NULL,
    CONSTRAINT usage_people_pkey PRIMARY KEY (hour, user_id)
)
 WITH (fillfactor = 80);
CREATE INDEX usage_people_user ON nestrel.usage_people (user_id, hour);
CREATE TABLE nestrel.usage_places (
    hour timestamptz NOT NULL,
    conversation_id UUID NOT NULL,
    deliveries BIGINT NOT NULL,
    stored_bytes BIGINT,
    connections_peak INTEGER DEFAULT 0 NOT NULL,
    CONSTRAINT usage_places_pkey PRIMARY KEY (hour, conversation_id)
)
 WITH (fillfactor = 80);
CREATE INDEX usage_places_conversation ON nestrel.usage_places (conversation_id, hour);
CREATE UNLOGGED TABLE nestrel.usage_samples (
    slot BIGINT NOT NULL,
    node TEXT NOT NULL,
    n INTEGER NOT NULL,
    CONSTRAINT usage_samples_pkey PRIMARY KEY (slot, node)
);
CREATE TABLE nestrel.usage_told (
    node TEXT NOT NULL,
    n BIGINT NOT NULL,
    told_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT usage_told_pkey PRIMARY KEY (node)
);
