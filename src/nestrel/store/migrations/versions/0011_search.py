"""Search: blocks of 256 messages as one document each."""

from nestrel.store.migrations.naming import run

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None

# `block` n holds the messages from 256 n + 1 to 256 n + 256. Its words are those of its messages, and one that names
# the conversation; there may be some too many, never one too few. `stale_since` says that some may have gone, and since
# when. How far a conversation is in the blocks stands beside it: all of up to `rev`.
STATEMENTS = """
CREATE TABLE nestrel.search_blocks (
    conversation_id uuid        NOT NULL,
    block           bigint      NOT NULL,
    first_at        timestamptz NOT NULL,
    last_at         timestamptz NOT NULL,
    words           tsvector    NOT NULL,
    stale_since     timestamptz,
    CONSTRAINT search_blocks_pkey PRIMARY KEY (conversation_id, block)
) WITH (fillfactor = 80);
CREATE INDEX search_blocks_words ON nestrel.search_blocks USING gin (words);
CREATE INDEX search_blocks_stale ON nestrel.search_blocks (stale_since) WHERE stale_since IS NOT NULL;
CREATE TABLE nestrel.search_places (
    conversation_id uuid   NOT NULL,
    rev             bigint NOT NULL,
    head            bigint NOT NULL,
    floor           bigint NOT NULL,
    CONSTRAINT search_places_pkey PRIMARY KEY (conversation_id)
)
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
