"""Attachments: files that belong to messages, and the objects that hold their bytes."""

from nestrel.store.migrations.naming import run

revision = "0012"
down_revision = "0011"
branch_labels = None
depends_on = None

# A message carries what is shown of its attachments, so that a page needs no join, and their bytes, which `keep_bytes`
# counts. An object holds bytes under a random name that is used once; equal bytes of one conversation share one. With
# `doomed_at` set the collector may take it from then on (`taken`); an object begins so, before its first byte is
# written, so that whatever a killed process leaves is found. `unused_since`: no message bears the attachment, and it
# may still be posted. `attached` keeps its rows when messages are archived, and loses them when they are discarded.
STATEMENTS = """
ALTER TABLE nestrel.messages ADD COLUMN attachments text, ADD COLUMN attached_bytes bigint;
CREATE TABLE nestrel.objects (
    id              uuid    CONSTRAINT objects_pkey PRIMARY KEY,
    conversation_id uuid    NOT NULL,
    sha256          bytea,
    doomed_at       timestamptz,
    taken           boolean NOT NULL DEFAULT false
);
CREATE UNIQUE INDEX objects_same ON nestrel.objects (conversation_id, sha256) WHERE doomed_at IS NULL;
CREATE INDEX objects_doomed ON nestrel.objects (doomed_at) WHERE doomed_at IS NOT NULL;
CREATE TABLE nestrel.attachments (
    conversation_id uuid        NOT NULL,
    id              uuid        NOT NULL,
    object_id       uuid        NOT NULL,
    uploader_id     text        NOT NULL,
    name            text        NOT NULL,
    media_type      text        NOT NULL,
    bytes           bigint      NOT NULL,
    sha256          bytea       NOT NULL,
    width           integer,
    height          integer,
    still           boolean     NOT NULL,
    created_at      timestamptz NOT NULL DEFAULT clock_timestamp(),
    unused_since    timestamptz DEFAULT clock_timestamp(),
    CONSTRAINT attachments_pkey PRIMARY KEY (conversation_id, id)
);
CREATE INDEX attachments_same ON nestrel.attachments (conversation_id, sha256, uploader_id);
CREATE INDEX attachments_object ON nestrel.attachments (object_id);
CREATE INDEX attachments_unused ON nestrel.attachments (uploader_id) WHERE unused_since IS NOT NULL;
CREATE INDEX attachments_unused_since ON nestrel.attachments (unused_since) WHERE unused_since IS NOT NULL;
CREATE TABLE nestrel.attached (
    conversation_id uuid   NOT NULL,
    seq             bigint NOT NULL,
    attachment_id   uuid   NOT NULL,
    CONSTRAINT attached_pkey PRIMARY KEY (conversation_id, seq, attachment_id)
);
CREATE INDEX attached_of ON nestrel.attached (conversation_id, attachment_id, seq);
CREATE TABLE nestrel.loosened (
    conversation_id uuid    NOT NULL,
    attachment_id   uuid    NOT NULL,
    expired         boolean NOT NULL DEFAULT false,
    CONSTRAINT loosened_pkey PRIMARY KEY (conversation_id, attachment_id)
);
CREATE TABLE nestrel.expired_attachments (
    conversation_id uuid NOT NULL,
    attachment_id   uuid NOT NULL,
    CONSTRAINT expired_attachments_pkey PRIMARY KEY (conversation_id, attachment_id)
);
CREATE TABLE nestrel.previews (
    object_id  uuid    NOT NULL,
    width      integer NOT NULL,
    preview_id uuid    NOT NULL,
    CONSTRAINT previews_pkey PRIMARY KEY (object_id, width)
);
CREATE TABLE nestrel.uploaded (
    day     date   NOT NULL,
    user_id text   NOT NULL,
    bytes   bigint NOT NULL,
    CONSTRAINT uploaded_pkey PRIMARY KEY (day, user_id)
)
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
