CREATE TABLE nestrel.archive_authors (
    author_id TEXT NOT NULL,
    conversation_id UUID NOT NULL,
    segment INTEGER NOT NULL,
    messages INTEGER NOT NULL,
    CONSTRAINT archive_authors_pkey PRIMARY KEY (author_id, conversation_id, segment)
);
CREATE INDEX archive_authors_of ON nestrel.archive_authors (conversation_id);
CREATE TABLE nestrel.archive_segments (
    conversation_id UUID NOT NULL,
    segment INTEGER NOT NULL,
    first_seq BIGINT NOT NULL,
    last_seq BIGINT NOT NULL,
    messages INTEGER NOT NULL,
    bytes BIGINT NOT NULL,
    sha256 BYTEA NOT NULL,
    archived_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    content BYTEA NOT NULL,
    CONSTRAINT archive_segments_pkey PRIMARY KEY (conversation_id, segment),
    CONSTRAINT archive_segments_whole CHECK (((last_seq - first_seq) + 1) = messages)
);
ALTER TABLE nestrel.archive_segments ALTER content SET STORAGE EXTERNAL;
CREATE TABLE nestrel.discarded_runs (
    conversation_id UUID NOT NULL,
    first_seq BIGINT NOT NULL,
    last_seq BIGINT NOT NULL,
    discarded_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT discarded_runs_pkey PRIMARY KEY (conversation_id, first_seq)
);
CREATE TABLE nestrel.expired_attachments (
    conversation_id UUID NOT NULL,
    attachment_id UUID NOT NULL,
    CONSTRAINT expired_attachments_pkey PRIMARY KEY (conversation_id, attachment_id)
);
CREATE TABLE nestrel.expired_backlog (
    conversation_id UUID NOT NULL,
    next_seq BIGINT NOT NULL,
    since timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT expired_backlog_pkey PRIMARY KEY (conversation_id)
)
 WITH (fillfactor = 70);
CREATE TABLE nestrel.expired_keys (
    conversation_id UUID NOT NULL,
    key_hash BYTEA NOT NULL,
    seq BIGINT NOT NULL,
    CONSTRAINT expired_keys_pkey PRIMARY KEY (conversation_id, key_hash)
);
CREATE TABLE nestrel.expiry_due (
    conversation_id UUID NOT NULL,
    due_at timestamptz NOT NULL,
    CONSTRAINT expiry_due_pkey PRIMARY KEY (conversation_id)
);
CREATE INDEX expiry_due_at ON nestrel.expiry_due (due_at);
CREATE TABLE nestrel.service_rule (
    version INTEGER NOT NULL,
    keep_last BIGINT,
    keep_for TEXT,
    keep_span INTERVAL,
    keep_bytes BIGINT,
    after_expiry TEXT DEFAULT 'archive' NOT NULL,
    hold BOOLEAN DEFAULT false NOT NULL,
    set_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT service_rule_pkey PRIMARY KEY (version)
);
