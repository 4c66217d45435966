"""Indexes of revision 0026, on tables that may be large: nobody waits for them."""

from alembic import op

from nestrel.store.migrations.naming import run

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None

# One that was cut short stands there and is of no use.
INDEXES = {
    "conversations_look": "UNIQUE INDEX CONCURRENTLY conversations_look ON nestrel.conversations (name_look) "
    "WHERE name_look IS NOT NULL AND closed_at IS NULL",
    "conversations_unlooked": "INDEX CONCURRENTLY conversations_unlooked ON nestrel.conversations (id) "
    "WHERE name IS NOT NULL AND name_look IS NULL AND closed_at IS NULL",
    "invitations_maker": "INDEX CONCURRENTLY invitations_maker ON nestrel.invitations (created_by)",
}


def upgrade() -> None:
    with op.get_context().autocommit_block():
        for name, made in INDEXES.items():
            run(f"DROP INDEX CONCURRENTLY IF EXISTS nestrel.{name}")
            run(f"CREATE {made}")
