"""Where a webhook began: what it was told of since then, and what it has still to be told of from the beginning."""

from nestrel.store.migrations.naming import run

revision = "0031"
down_revision = "0030"
branch_labels = None
depends_on = None


def upgrade() -> None:
    # Those of before have none, and go on as they did.
    run("ALTER TABLE nestrel.webhooks ADD COLUMN begun text")
