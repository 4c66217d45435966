"""Retention rules for kinds of conversations, between their own and the service's."""

from alembic import op

from nestrel.store.migrations.naming import run

revision = "0030"
down_revision = "0029"
branch_labels = None
depends_on = None

# Versions are of one order with those of the service's rule. The newest row of a kind counts: a rule, or that it was
# cleared. They are a table of their own, as processes of before take every row of the other for a rule of all.
TABLE = """
CREATE TABLE IF NOT EXISTS nestrel.kind_rules (
    kind         text        NOT NULL CONSTRAINT kind_rules_kind_check CHECK (kind IN ('direct', 'group', 'bulletin')),
    version      integer     NOT NULL,
    keep_last    bigint,
    keep_for     text,
    keep_span    interval,
    keep_bytes   bigint,
    after_expiry text        NOT NULL,
    hold         boolean     NOT NULL,
    cleared      boolean     NOT NULL DEFAULT false,
    CONSTRAINT kind_rules_pkey PRIMARY KEY (kind, version)
)
"""
INDEX = """
CREATE INDEX CONCURRENTLY conversations_kind_inherits ON nestrel.conversations (kind, inherits, id)
WHERE inherits IS NOT NULL AND closed_at IS NULL
"""


def upgrade() -> None:
    run(TABLE)
    with op.get_context().autocommit_block():
        run("DROP INDEX CONCURRENTLY IF EXISTS nestrel.conversations_kind_inherits")
        run(INDEX)
