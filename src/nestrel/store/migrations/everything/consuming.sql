CREATE TABLE nestrel.consumers (
    name TEXT NOT NULL,
    wanted BOOLEAN DEFAULT true NOT NULL,
    lease BIGINT DEFAULT 0 NOT NULL,
    holder TEXT,
    held_until timestamptz DEFAULT '-infinity' NOT NULL,
    cursor TEXT,
    kept_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT consumers_pkey PRIMARY KEY (name)
);
CREATE TABLE nestrel.epochs (
    n BIGINT GENERATED ALWAYS AS IDENTITY,
    id BIGINT NOT NULL,
    branch BIGINT,
    system BIGINT NOT NULL,
    database_id BIGINT NOT NULL,
    timeline TEXT NOT NULL,
    made_in OID NOT NULL,
    began_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT epochs_pkey PRIMARY KEY (n),
    CONSTRAINT epochs_id_key UNIQUE (id)
);
CREATE TABLE nestrel.journal (
    xid xid8 DEFAULT pg_current_xact_id() NOT NULL,
    at timestamptz DEFAULT clock_timestamp() NOT NULL,
    ids UUID[] NOT NULL,
    revs BIGINT[] NOT NULL
)
 WITH (toast_tuple_target = 8160, autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 20000);
CREATE INDEX journal_xid ON nestrel.journal (xid);
CREATE TABLE nestrel.journal_trimmed (
    xid xid8 NOT NULL,
    CONSTRAINT journal_trimmed_pkey PRIMARY KEY (xid)
);
CREATE TABLE nestrel.posts_waiting (
    ticket BIGINT GENERATED ALWAYS AS IDENTITY,
    conversation_id UUID NOT NULL,
    author_id TEXT NOT NULL,
    key TEXT NOT NULL,
    body TEXT NOT NULL,
    format TEXT NOT NULL,
    attributes JSON,
    mentions TEXT[] NOT NULL,
    reply_to BIGINT,
    posted_as TEXT NOT NULL,
    waits_since timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT posts_waiting_pkey PRIMARY KEY (ticket)
)
 WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000, autovacuum_vacuum_insert_scale_factor = 0, autovacuum_vacuum_cost_delay = 0);
CREATE INDEX posts_waiting_author ON nestrel.posts_waiting (author_id);
CREATE TABLE nestrel.refused_posts (
    ticket BIGINT NOT NULL,
    conversation_id UUID NOT NULL,
    author TEXT NOT NULL,
    key TEXT NOT NULL,
    problem JSON NOT NULL,
    refused_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT refused_posts_pkey PRIMARY KEY (ticket)
);
CREATE INDEX refused_posts_author ON nestrel.refused_posts (author);
CREATE INDEX refused_posts_old ON nestrel.refused_posts (refused_at);
CREATE TABLE nestrel.webhook_deliveries (
    webhook_id UUID NOT NULL,
    n BIGINT GENERATED ALWAYS AS IDENTITY,
    at timestamptz NOT NULL,
    attempt INTEGER NOT NULL,
    status INTEGER,
    ms INTEGER NOT NULL,
    error TEXT,
    next_at timestamptz,
    CONSTRAINT webhook_deliveries_pkey PRIMARY KEY (webhook_id, n)
)
 WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000);
CREATE TABLE nestrel.webhooks (
    id UUID NOT NULL,
    url TEXT NOT NULL,
    type TEXT NOT NULL,
    conversation_id UUID,
    secret BYTEA NOT NULL,
    old_secret BYTEA,
    old_secret_until timestamptz,
    state TEXT DEFAULT 'active' NOT NULL,
    created_by TEXT NOT NULL,
    created_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    attempt INTEGER DEFAULT 0 NOT NULL,
    failing_since timestamptz,
    next_at timestamptz,
    replay_from timestamptz,
    replay_after UUID,
    replay_seq BIGINT,
    CONSTRAINT webhooks_pkey PRIMARY KEY (id),
    CONSTRAINT webhooks_state_check CHECK (state IN ('active', 'paused', 'stopped')),
    CONSTRAINT webhooks_type_check CHECK (type IN ('changes', 'notices'))
);
