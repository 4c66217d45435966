CREATE TABLE nestrel.blocks (
    user_id TEXT NOT NULL,
    blocked_id TEXT NOT NULL,
    blocked_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT blocks_pkey PRIMARY KEY (user_id, blocked_id)
);
CREATE INDEX blocks_blocked ON nestrel.blocks (blocked_id);
CREATE TABLE nestrel.conversation_words (
    word TEXT COLLATE "C" NOT NULL,
    conversation_id UUID NOT NULL,
    n INTEGER NOT NULL,
    CONSTRAINT conversation_words_pkey PRIMARY KEY (word, conversation_id)
);
CREATE INDEX conversation_words_of ON nestrel.conversation_words (conversation_id, word);
CREATE TABLE nestrel.conversations (
    id UUID NOT NULL,
    kind TEXT NOT NULL,
    visibility TEXT NOT NULL,
    name TEXT,
    name_key TEXT,
    title TEXT NOT NULL,
    attributes TEXT,
    direct_pair TEXT,
    created_by TEXT NOT NULL,
    created_at timestamptz NOT NULL,
    head BIGINT DEFAULT 0 NOT NULL,
    floor BIGINT DEFAULT 1 NOT NULL,
    rev BIGINT NOT NULL,
    own_rev BIGINT NOT NULL,
    message_count BIGINT DEFAULT 0 NOT NULL,
    member_count INTEGER DEFAULT 0 NOT NULL,
    last_at timestamptz NOT NULL,
    moved_xid xid8 DEFAULT pg_current_xact_id() NOT NULL,
    closed_at timestamptz,
    erased BOOLEAN DEFAULT false NOT NULL,
    kept_bytes BIGINT DEFAULT 0 NOT NULL,
    swept BIGINT DEFAULT 1 NOT NULL,
    keep_last BIGINT,
    keep_for TEXT,
    keep_span INTERVAL,
    keep_bytes BIGINT,
    after_expiry TEXT DEFAULT 'archive' NOT NULL,
    hold BOOLEAN DEFAULT false NOT NULL,
    inherits INTEGER DEFAULT 1,
    earlier_then TEXT DEFAULT 'archive' NOT NULL,
    earlier_below BIGINT DEFAULT 0 NOT NULL,
    epochs BIGINT[] NOT NULL,
    begins BIGINT[] NOT NULL,
    guard BIGINT DEFAULT 0 NOT NULL,
    blocked BOOLEAN DEFAULT false NOT NULL,
    post_interval INTEGER,
    is_default BOOLEAN DEFAULT false NOT NULL,
    crowd BOOLEAN DEFAULT false NOT NULL,
    name_look TEXT,
    CONSTRAINT conversations_pkey PRIMARY KEY (id),
    CONSTRAINT conversations_after_expiry_check CHECK (after_expiry IN ('archive', 'discard')),
    CONSTRAINT conversations_counted CHECK ((message_count >= 0) AND (message_count <= head)),
    CONSTRAINT conversations_epoch CHECK ((epochs[1] IS NOT NULL) AND (cardinality(epochs) = cardinality(begins))),
    CONSTRAINT conversations_floor CHECK ((floor >= 1) AND (head >= (floor - 1))),
    CONSTRAINT conversations_kind_check CHECK (kind IN ('group', 'direct', 'bulletin')),
    CONSTRAINT conversations_swept CHECK (swept <= floor),
    CONSTRAINT conversations_visibility_check CHECK (visibility IN ('open', 'closed'))
)
 WITH (fillfactor = 70);
CREATE UNIQUE INDEX conversations_name ON nestrel.conversations (name_key) WHERE closed_at IS NULL;
CREATE UNIQUE INDEX conversations_direct_pair ON nestrel.conversations (direct_pair) WHERE closed_at IS NULL;
CREATE INDEX conversations_open ON nestrel.conversations (id) WHERE (visibility = 'open') AND (closed_at IS NULL);
CREATE INDEX conversations_to_erase ON nestrel.conversations (id) WHERE (closed_at IS NOT NULL) AND (NOT erased);
CREATE INDEX conversations_inherits ON nestrel.conversations (inherits, id) WHERE (inherits IS NOT NULL) AND (closed_at IS NULL);
CREATE INDEX conversations_default ON nestrel.conversations (id) WHERE is_default;
CREATE UNIQUE INDEX conversations_look ON nestrel.conversations (name_look) WHERE (name_look IS NOT NULL) AND (closed_at IS NULL);
CREATE INDEX conversations_unlooked ON nestrel.conversations (id) WHERE (name IS NOT NULL) AND (name_look IS NULL) AND (closed_at IS NULL);
CREATE TABLE nestrel.held_names (
    user_id TEXT NOT NULL,
    kind TEXT NOT NULL,
    key TEXT NOT NULL,
    name TEXT NOT NULL,
    given_up_at timestamptz,
    CONSTRAINT held_names_pkey PRIMARY KEY (user_id, kind, key),
    CONSTRAINT held_names_kind_check CHECK (kind IN ('name', 'id'))
);
CREATE INDEX held_names_key ON nestrel.held_names (key);
CREATE TABLE nestrel.invitations (
    conversation_id UUID NOT NULL,
    id UUID NOT NULL,
    token_hash BYTEA NOT NULL,
    role TEXT NOT NULL,
    uses_left INTEGER,
    expires_at timestamptz,
    created_by TEXT NOT NULL,
    by_service BOOLEAN NOT NULL,
    created_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT invitations_pkey PRIMARY KEY (conversation_id, id),
    CONSTRAINT invitations_token UNIQUE (token_hash)
);
CREATE INDEX invitations_maker ON nestrel.invitations (created_by);
CREATE TABLE nestrel.joining (
    conversation_id UUID NOT NULL,
    after TEXT DEFAULT '' NOT NULL,
    CONSTRAINT joining_pkey PRIMARY KEY (conversation_id)
);
CREATE TABLE nestrel.kept_out (
    conversation_id UUID NOT NULL,
    user_id TEXT NOT NULL,
    until timestamptz,
    reason TEXT,
    kept_out_by TEXT NOT NULL,
    kept_out_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    CONSTRAINT kept_out_pkey PRIMARY KEY (conversation_id, user_id)
);
CREATE INDEX kept_out_user ON nestrel.kept_out (user_id);
CREATE TABLE nestrel.members (
    conversation_id UUID NOT NULL,
    user_id TEXT NOT NULL,
    role TEXT NOT NULL,
    joined_at timestamptz NOT NULL,
    left_at timestamptz,
    left_reason TEXT,
    read_seq BIGINT DEFAULT 0 NOT NULL,
    read_at timestamptz,
    rev BIGINT NOT NULL,
    moved_xid xid8 DEFAULT pg_current_xact_id() NOT NULL,
    joined_xid xid8 DEFAULT pg_current_xact_id() NOT NULL,
    hidden_head BIGINT,
    ranked BOOLEAN DEFAULT false NOT NULL,
    CONSTRAINT members_pkey PRIMARY KEY (conversation_id, user_id),
    CONSTRAINT members_left_reason_check CHECK (left_reason IN ('left', 'removed')),
    CONSTRAINT members_role_check CHECK (role IN ('owner', 'moderator', 'writer', 'reader')),
    CONSTRAINT members_conversation_id_fkey FOREIGN KEY(conversation_id) REFERENCES nestrel.conversations (id)
)
 WITH (fillfactor = 80);
CREATE INDEX members_of_user ON nestrel.members (user_id, conversation_id);
CREATE INDEX members_rev ON nestrel.members (conversation_id, rev);
CREATE INDEX members_joined ON nestrel.members (joined_xid);
CREATE INDEX members_ranked ON nestrel.members (conversation_id, rev) WHERE ranked;
