CREATE TABLE nestrel.audit (
    audit_id UUID NOT NULL,
    at timestamptz DEFAULT clock_timestamp() NOT NULL,
    actor TEXT NOT NULL,
    act TEXT NOT NULL,
    conversation_id UUID,
    user_id TEXT,
    seq BIGINT,
    before TEXT,
    after TEXT,
    request_id TEXT NOT NULL,
    times BIGINT,
    hourly BOOLEAN,
    CONSTRAINT audit_pkey PRIMARY KEY (audit_id, at)
)
 PARTITION BY RANGE (at);
CREATE INDEX audit_actor ON nestrel.audit (actor, audit_id);
CREATE INDEX audit_conversation ON nestrel.audit (conversation_id, audit_id);
CREATE UNIQUE INDEX audit_hourly ON nestrel.audit (at, actor, act, conversation_id, user_id) WHERE hourly;
CREATE TABLE nestrel.audit_reasons (
    audit_id UUID NOT NULL,
    user_id TEXT,
    reason TEXT NOT NULL,
    CONSTRAINT audit_reasons_pkey PRIMARY KEY (audit_id)
);
CREATE INDEX audit_reasons_user ON nestrel.audit_reasons (user_id);
CREATE TABLE nestrel.barred (
    user_id TEXT NOT NULL,
    suspended BOOLEAN DEFAULT false NOT NULL,
    suspended_until timestamptz,
    reason TEXT,
    suspended_by TEXT,
    suspended_at timestamptz,
    not_before timestamptz,
    changed_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT barred_pkey PRIMARY KEY (user_id)
);
CREATE INDEX barred_changed ON nestrel.barred (changed_at);
CREATE TABLE nestrel.ended_sessions (
    id BYTEA NOT NULL,
    expires_at timestamptz NOT NULL,
    ended_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT ended_sessions_pkey PRIMARY KEY (id)
);
CREATE INDEX ended_sessions_at ON nestrel.ended_sessions (ended_at);
CREATE TABLE nestrel.erasures (
    id UUID NOT NULL,
    user_id TEXT NOT NULL,
    asked_by TEXT NOT NULL,
    asked_at timestamptz NOT NULL,
    finished_at timestamptz,
    at_id UUID DEFAULT '00000000-0000-0000-0000-000000000000' NOT NULL,
    messages BIGINT DEFAULT 0 NOT NULL,
    archived BIGINT DEFAULT 0 NOT NULL,
    conversations INTEGER DEFAULT 0 NOT NULL,
    claimed_by TEXT,
    claimed_until timestamptz,
    CONSTRAINT erasures_pkey PRIMARY KEY (id)
);
CREATE INDEX erasures_open ON nestrel.erasures (id) WHERE finished_at IS NULL;
CREATE TABLE nestrel.notice_preferences (
    conversation_id UUID NOT NULL,
    user_id TEXT NOT NULL,
    notify TEXT,
    notify_after timestamptz,
    CONSTRAINT notice_preferences_pkey PRIMARY KEY (conversation_id, user_id),
    CONSTRAINT notice_preferences_notify_check CHECK (notify IN ('all', 'mentions', 'none'))
);
CREATE INDEX notice_preferences_all ON nestrel.notice_preferences (conversation_id, user_id) WHERE notify = 'all';
CREATE INDEX notice_preferences_user ON nestrel.notice_preferences (user_id);
CREATE TABLE nestrel.person_words (
    word TEXT COLLATE "C" NOT NULL,
    user_id TEXT NOT NULL,
    n INTEGER NOT NULL,
    CONSTRAINT person_words_pkey PRIMARY KEY (word, user_id)
);
CREATE INDEX person_words_of ON nestrel.person_words (user_id, word);
CREATE TABLE nestrel.profile_news (
    user_id TEXT NOT NULL,
    after UUID NOT NULL,
    CONSTRAINT profile_news_pkey PRIMARY KEY (user_id)
);
CREATE TABLE nestrel.profiles (
    user_id TEXT NOT NULL,
    display_name TEXT NOT NULL,
    picture TEXT,
    rev BIGINT NOT NULL,
    CONSTRAINT profiles_pkey PRIMARY KEY (user_id)
);
CREATE TABLE nestrel.push_subscriptions (
    id UUID NOT NULL,
    user_id TEXT NOT NULL,
    endpoint TEXT NOT NULL,
    p256dh BYTEA NOT NULL,
    auth BYTEA NOT NULL,
    expires_at timestamptz,
    session BYTEA,
    created_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT push_subscriptions_pkey PRIMARY KEY (id),
    CONSTRAINT push_subscriptions_endpoint UNIQUE (endpoint)
);
CREATE INDEX push_subscriptions_user ON nestrel.push_subscriptions (user_id, id);
CREATE INDEX push_subscriptions_session ON nestrel.push_subscriptions (session) WHERE session IS NOT NULL;
CREATE TABLE nestrel.reports (
    report_id UUID NOT NULL,
    conversation_id UUID NOT NULL,
    seq BIGINT NOT NULL,
    author_id TEXT NOT NULL,
    reason TEXT NOT NULL,
    reported_by TEXT NOT NULL,
    reported_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    state TEXT DEFAULT 'open' NOT NULL,
    settled_by TEXT,
    settled_at timestamptz,
    message TEXT,
    CONSTRAINT reports_pkey PRIMARY KEY (report_id),
    CONSTRAINT reports_state_check CHECK (state IN ('open', 'done'))
);
CREATE INDEX reports_conversation ON nestrel.reports (conversation_id, report_id);
CREATE UNIQUE INDEX reports_once ON nestrel.reports (conversation_id, seq, reported_by);
CREATE INDEX reports_author ON nestrel.reports (author_id);
CREATE INDEX reports_by ON nestrel.reports (reported_by);
CREATE INDEX reports_kept ON nestrel.reports (reported_at) WHERE message IS NOT NULL;
CREATE TABLE nestrel.uploaded (
    day DATE NOT NULL,
    user_id TEXT NOT NULL,
    bytes BIGINT NOT NULL,
    CONSTRAINT uploaded_pkey PRIMARY KEY (day, user_id)
);
CREATE TABLE nestrel.used_today (
    user_id TEXT NOT NULL,
    day DATE NOT NULL,
    conversations INTEGER DEFAULT 0 NOT NULL,
    additions INTEGER DEFAULT 0 NOT NULL,
    CONSTRAINT used_today_pkey PRIMARY KEY (day, user_id)
);
CREATE TABLE nestrel.push_again (
    subscription_id UUID NOT NULL,
    conversation_id UUID NOT NULL,
    seq BIGINT NOT NULL,
    attempt INTEGER NOT NULL,
    next_at timestamptz NOT NULL,
    CONSTRAINT push_again_pkey PRIMARY KEY (subscription_id, conversation_id, seq),
    CONSTRAINT push_again_subscription_id_fkey FOREIGN KEY(subscription_id) REFERENCES nestrel.push_subscriptions (id) ON DELETE CASCADE ON UPDATE CASCADE
);
CREATE INDEX push_again_next ON nestrel.push_again (next_at);
