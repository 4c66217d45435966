CREATE TABLE nestrel.attached (
    conversation_id UUID NOT NULL,
    seq BIGINT NOT NULL,
    attachment_id UUID NOT NULL,
    CONSTRAINT attached_pkey PRIMARY KEY (conversation_id, seq, attachment_id)
);
CREATE INDEX attached_of ON nestrel.attached (conversation_id, attachment_id, seq);
CREATE TABLE nestrel.attachments (
    conversation_id UUID NOT NULL,
    id UUID NOT NULL,
    object_id UUID NOT NULL,
    uploader_id TEXT NOT NULL,
    name TEXT NOT NULL,
    media_type TEXT NOT NULL,
    bytes BIGINT NOT NULL,
    sha256 BYTEA NOT NULL,
    width INTEGER,
    height INTEGER,
    still BOOLEAN NOT NULL,
    created_at timestamptz DEFAULT clock_timestamp() NOT NULL,
    unused_since timestamptz DEFAULT clock_timestamp(),
    CONSTRAINT attachments_pkey PRIMARY KEY (conversation_id, id)
);
CREATE INDEX attachments_same ON nestrel.attachments (conversation_id, sha256, uploader_id);
CREATE INDEX attachments_object ON nestrel.attachments (object_id);
CREATE INDEX attachments_unused ON nestrel.attachments (uploader_id) WHERE unused_since IS NOT NULL;
CREATE INDEX attachments_unused_since ON nestrel.attachments (unused_since) WHERE unused_since IS NOT NULL;
CREATE TABLE nestrel.loosened (
    conversation_id UUID NOT NULL,
    attachment_id UUID NOT NULL,
    expired BOOLEAN DEFAULT false NOT NULL,
    CONSTRAINT loosened_pkey PRIMARY KEY (conversation_id, attachment_id)
);
CREATE TABLE nestrel.objects (
    id UUID NOT NULL,
    conversation_id UUID NOT NULL,
    sha256 BYTEA,
    doomed_at timestamptz,
    taken BOOLEAN DEFAULT false NOT NULL,
    CONSTRAINT objects_pkey PRIMARY KEY (id)
);
CREATE UNIQUE INDEX objects_same ON nestrel.objects (conversation_id, sha256) WHERE doomed_at IS NULL;
CREATE INDEX objects_doomed ON nestrel.objects (doomed_at) WHERE doomed_at IS NOT NULL;
CREATE TABLE nestrel.previews (
    object_id UUID NOT NULL,
    width INTEGER NOT NULL,
    preview_id UUID NOT NULL,
    CONSTRAINT previews_pkey PRIMARY KEY (object_id, width)
);
