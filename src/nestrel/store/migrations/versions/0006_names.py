"""Constraints that PostgreSQL had numbered get names of their own."""

from nestrel.store.migrations.naming import run

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None

NAMES = {
    ("conversations", "conversations_check"): "conversations_floor",
    ("conversations", "conversations_check1"): "conversations_counted",
    ("conversations", "conversations_check2"): "conversations_swept",
    ("archive_segments", "archive_segments_check"): "archive_segments_whole",
}


def upgrade() -> None:
    for (table, before), after in NAMES.items():
        run(f"ALTER TABLE nestrel.{table} RENAME CONSTRAINT {before} TO {after}")
