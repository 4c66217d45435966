"""The journal: which conversations each transaction moved."""

from nestrel.store.migrations.naming import run

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None

# A row for each statement that moves conversations, with all of them in it: one index entry however many they are. It
# is written by a trigger, so that nothing moves beside it, code of before that still serves included. Rows go after a
# few minutes; `journal_trimmed` is the newest transaction of which they may have gone. What a row of the largest
# batch takes stays in one page: the ids do not compress, and out of line they would cost an index of their own.
TABLES = """
CREATE TABLE nestrel.journal (
    xid  xid8 NOT NULL DEFAULT pg_current_xact_id(),
    at   timestamptz NOT NULL DEFAULT clock_timestamp(),
    ids  uuid[] NOT NULL,
    revs bigint[] NOT NULL
) WITH (toast_tuple_target = 8160, autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 20000);
CREATE INDEX journal_xid ON nestrel.journal (xid);
CREATE TABLE nestrel.journal_trimmed (xid xid8 PRIMARY KEY)
"""

MOVED = """
CREATE FUNCTION nestrel.journal_v1() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO nestrel.journal (ids, revs) SELECT array_agg(id), array_agg(rev) FROM moved
    WHERE moved_xid = pg_current_xact_id() HAVING count(*) > 0;
    RETURN NULL;
END $$
"""

TRIGGERS = """
CREATE TRIGGER journal_made AFTER INSERT ON nestrel.conversations
REFERENCING NEW TABLE AS moved FOR EACH STATEMENT EXECUTE FUNCTION nestrel.journal_v1();
CREATE TRIGGER journal_moved AFTER UPDATE ON nestrel.conversations
REFERENCING NEW TABLE AS moved FOR EACH STATEMENT EXECUTE FUNCTION nestrel.journal_v1()
"""


def upgrade() -> None:
    for statement in TABLES.split(";\n"):
        run(statement)
    run(MOVED)
    for statement in TRIGGERS.split(";\n"):
        run(statement)
    # The triggers waited for whoever was moving conversations without them: all of that is before this.
    last = "CAST(CAST(pg_snapshot_xmax(pg_current_snapshot()) AS text) AS bigint) - 1"
    run(f"INSERT INTO nestrel.journal_trimmed SELECT CAST(CAST({last} AS text) AS xid8)")
