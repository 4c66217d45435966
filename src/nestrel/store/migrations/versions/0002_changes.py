"""What comes after a message is posted: earlier bodies, and reactions with their counts."""

from nestrel.store.migrations.naming import run

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None

# A count is kept beside its rows and written in the same transaction, under the conversation's lock: to show a message
# with many likes must not cost their number. It carries the rev of the change, so that a like leaves the message's own
# row, with its body and its indexes, alone; a count of 0 stays, for whoever was away. `since` is the rev at which a
# symbol came, for a steady order. Who reacted is kept in the order of code points: the first names come straight from
# the index, however many there are, and in the order that the write path keeps in memory.
TABLES = """
CREATE TABLE nestrel.message_edits (
    conversation_id uuid NOT NULL,
    seq             bigint NOT NULL,
    n               integer NOT NULL,
    body            text NOT NULL,
    format          text NOT NULL,
    created_at      timestamptz NOT NULL,
    edited_at       timestamptz NOT NULL,
    editor_id       text NOT NULL,
    PRIMARY KEY (conversation_id, seq, n)
);

CREATE TABLE nestrel.reactions (
    conversation_id uuid NOT NULL,
    seq             bigint NOT NULL,
    symbol          text NOT NULL,
    user_id         text COLLATE "C" NOT NULL,
    created_at      timestamptz NOT NULL,
    PRIMARY KEY (conversation_id, seq, symbol, user_id)
);

CREATE TABLE nestrel.reaction_counts (
    conversation_id uuid NOT NULL,
    seq             bigint NOT NULL,
    symbol          text NOT NULL,
    count           bigint NOT NULL CHECK (count >= 0),
    since           bigint NOT NULL,
    rev             bigint NOT NULL,
    moved_xid       xid8 NOT NULL DEFAULT pg_current_xact_id(),
    PRIMARY KEY (conversation_id, seq, symbol)
) WITH (fillfactor = 80);

CREATE INDEX reaction_counts_rev ON nestrel.reaction_counts (conversation_id, rev)
"""


def upgrade() -> None:
    for statement in TABLES.split(";\n"):
        run(statement)
