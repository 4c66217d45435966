"""What a backend does for somebody all day stands in the audit as one row an hour."""

from alembic import op
from sqlalchemy import text

from nestrel.store.migrations.naming import run, schema

revision = "0027"
down_revision = "0026"
branch_labels = None
depends_on = None

COLUMN = "ALTER TABLE nestrel.audit ADD COLUMN IF NOT EXISTS times bigint"

# Such a row begins with its hour, so that all of one hour meet there. The index takes no row of before.
WHOLE = """
CREATE UNIQUE INDEX IF NOT EXISTS audit_hourly ON ONLY nestrel.audit (at, actor, act, conversation_id, user_id)
WHERE times IS NOT NULL
"""
PART = """
CREATE UNIQUE INDEX CONCURRENTLY {part}_hourly ON nestrel.{part} (at, actor, act, conversation_id, user_id)
WHERE times IS NOT NULL
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
) RETURNS bigint LANGUAGE sql VOLATILE SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
    WITH counted AS (
        INSERT INTO nestrel.audit AS a
            (audit_id, at, actor, act, conversation_id, user_id, seq, request_id, times)
        SELECT (array_agg(d.id ORDER BY d.n))[1], date_trunc('hour', clock_timestamp(), 'UTC'), d.actor, d.act,
               d.conversation_id, d.user_id, max(d.seq), (array_agg(d.request_id ORDER BY d.n DESC))[1], count(*)
        FROM unnest(ids, actors, acts, conversations, users, seqs, requests) WITH ORDINALITY
            AS d (id, actor, act, conversation_id, user_id, seq, request_id, n)
        WHERE d.act IN ('posted-for', 'uploaded-for')
        GROUP BY d.actor, d.act, d.conversation_id, d.user_id
        ORDER BY d.conversation_id, d.user_id, d.actor
        ON CONFLICT (at, actor, act, conversation_id, user_id) WHERE times IS NOT NULL DO UPDATE
        SET times = a.times + excluded.times, seq = greatest(a.seq, excluded.seq), request_id = excluded.request_id
        RETURNING 1
    ) SELECT count(*) FROM counted
$$
"""
REFUSE = """
CREATE OR REPLACE FUNCTION nestrel.audit_stays_v1() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' THEN
        IF NEW.times > OLD.times AND NEW.at > clock_timestamp() - interval '2 hours'
            AND (to_jsonb(NEW) - '{times,seq,request_id}'::text[]) = (to_jsonb(OLD) - '{times,seq,request_id}'::text[])
        THEN
            RETURN NEW;
        END IF;
    END IF;
    RAISE EXCEPTION 'the audit is only added to; whole months are dropped by the owner of the schema'
        USING ERRCODE = 'insufficient_privilege';
END $$
"""


def upgrade() -> None:
    run(COLUMN)
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
