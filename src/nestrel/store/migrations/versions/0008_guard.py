"""The guard: it rises with each change of a conversation's row that takes no `rev`."""

from nestrel.store.migrations.naming import run

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None

# Whoever remembers a row knows by its `rev` and its guard together that nothing in it has changed. By a trigger, so
# that no statement can forget it, an operator's own included; its condition is looked at without calling it.
RISES = """
CREATE FUNCTION nestrel.guard_v1() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.guard := OLD.guard + 1;
    RETURN NEW;
END $$
"""
TRIGGER = """
CREATE TRIGGER guard BEFORE UPDATE ON nestrel.conversations
FOR EACH ROW WHEN (OLD.rev = NEW.rev) EXECUTE FUNCTION nestrel.guard_v1()
"""


def upgrade() -> None:
    run("ALTER TABLE nestrel.conversations ADD COLUMN guard bigint NOT NULL DEFAULT 0")
    run(RISES)
    run(TRIGGER)
