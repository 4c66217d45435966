"""What a backend does for somebody all day stands in the audit as one row an hour."""

from alembic import op
from sqlalchemy import text

from nestrel.store.migrations.naming import run, schema

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None

COLUMNS = """
ALTER TABLE nestrel.audit ADD COLUMN IF NOT EXISTS times bigint, ADD COLUMN IF NOT EXISTS hourly boolean
"""

# Such a row begins with its hour, so that all of one hour meet there. The index takes no row of before, and names no
# column that counting changes: so a count goes into no index.
WHOLE = """
CREATE UNIQUE INDEX IF NOT EXISTS audit_hourly ON ONLY nestrel.audit (at, actor, act, conversation_id, user_id)
WHERE hourly
"""
PART = """
CREATE UNIQUE INDEX CONCURRENTLY {part}_hourly ON nestrel.{part} (at, actor, act, conversation_id, user_id)
WHERE hourly
"""
PARTS = """
SELECT p.relname, EXISTS (SELECT FROM pg_class c JOIN pg_index i ON i.indexrelid = c.oid
    WHERE i.indrelid = p.oid AND i.indisvalid AND c.relname = p.relname || '_hourly')
FROM pg_inherits t JOIN pg_class p ON p.oid = t.inhrelid
WHERE t.inhparent = CAST(:audit AS regclass) AND NOT EXISTS (SELECT FROM pg_inherits h JOIN pg_index i
    ON i.indexrelid = h.inhrelid WHERE h.inhparent = CAST(:hourly AS regclass) AND i.indrelid = p.oid)
ORDER BY p.relname
"""

# Whoever serves may add rows and change none: this counts in its name, in the hour that the database has now, and in
# no other.
COUNT = """
CREATE OR REPLACE FUNCTION nestrel.audit_count_v1(
    ids uuid[], actors text[], acts text[], conversations uuid[], users text[], seqs bigint[], requests text[]
) RETURNS bigint LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
DECLARE
    this_hour timestamptz := date_trunc('hour', clock_timestamp(), 'UTC');
BEGIN
    INSERT INTO nestrel.audit AS a (audit_id, at, actor, act, conversation_id, user_id, seq, request_id, times, hourly)
    SELECT (array_agg(d.id ORDER BY d.n))[1], this_hour, d.actor, d.act, d.conversation_id, d.user_id, max(d.seq),
           (array_agg(d.request_id ORDER BY d.n DESC))[1], count(*), true
    FROM unnest(ids, actors, acts, conversations, users, seqs, requests) WITH ORDINALITY
        AS d (id, actor, act, conversation_id, user_id, seq, request_id, n)
    WHERE d.act IN ('posted-for', 'uploaded-for')
    GROUP BY d.actor, d.act, d.conversation_id, d.user_id
    ORDER BY d.conversation_id, d.user_id, d.actor
    ON CONFLICT (at, actor, act, conversation_id, user_id) WHERE hourly DO UPDATE
    SET times = a.times + excluded.times, seq = greatest(a.seq, excluded.seq), request_id = excluded.request_id;
    RETURN cardinality(ids);
END $$
"""
REFUSE = """
CREATE OR REPLACE FUNCTION nestrel.audit_stays_v1() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' THEN
        IF NEW.times > OLD.times AND NEW.at > clock_timestamp() - interval '2 hours'
            AND (NEW.audit_id, NEW.at, NEW.actor, NEW.act, NEW.conversation_id, NEW.user_id, NEW.hourly)
                = (OLD.audit_id, OLD.at, OLD.actor, OLD.act, OLD.conversation_id, OLD.user_id, OLD.hourly)
            AND NEW.before IS NULL AND OLD.before IS NULL AND NEW.after IS NULL AND OLD.after IS NULL
        THEN
            RETURN NEW;
        END IF;
    END IF;
    RAISE EXCEPTION 'the audit is only added to; whole months are dropped by the owner of the schema'
        USING ERRCODE = 'insufficient_privilege';
END $$
"""


def upgrade() -> None:
    run(COLUMNS)
    run(REFUSE)
    run(COUNT)
    run("REVOKE ALL ON FUNCTION nestrel.audit_count_v1(uuid[], text[], text[], uuid[], text[], bigint[], text[]) "
        "FROM PUBLIC")  # fmt: skip
    run(WHOLE)
    # Built without holding up whoever writes; one that was cut short stands there and is of no use.
    with op.get_context().autocommit_block():
        names = {"audit": f"{schema()}.audit", "hourly": f"{schema()}.audit_hourly"}
        for part, whole in op.get_bind().execute(text(PARTS), names).all():
            if not whole:
                run(f"DROP INDEX CONCURRENTLY IF EXISTS nestrel.{part}_hourly")
                run(PART.format(part=part))
            run(f"ALTER INDEX nestrel.audit_hourly ATTACH PARTITION nestrel.{part}_hourly")
