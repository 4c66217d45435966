"""What an application needs of conversations and people: keys by which something was made once, and since when a
profile is as a token says."""

from nestrel.store.migrations.naming import run

revision = "0028"
down_revision = "0027"
branch_labels = None
depends_on = None

# A key is kept as its hash. It goes with its day, and nothing hangs on it.
STATEMENTS = """
CREATE TABLE nestrel.made_keys (
    user_id         text        NOT NULL,
    key_hash        bytea       NOT NULL,
    fingerprint     bytea       NOT NULL,
    conversation_id uuid        NOT NULL,
    made_at         timestamptz NOT NULL DEFAULT clock_timestamp(),
    CONSTRAINT made_keys_pkey PRIMARY KEY (user_id, key_hash)
);
CREATE INDEX made_keys_old ON nestrel.made_keys (made_at);
ALTER TABLE nestrel.profiles ADD COLUMN claimed_at timestamptz
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
