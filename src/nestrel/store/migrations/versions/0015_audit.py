"""The audit: by month, and nothing in it is ever changed."""

from nestrel.store.migrations.naming import run

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None

# What a month holds goes with its table, by the owner of the schema alone. Reasons are people's own words and may have
# to be erased, so they have a table of their own.
STATEMENTS = """
CREATE TABLE nestrel.audit (
    audit_id        uuid        NOT NULL,
    at              timestamptz NOT NULL DEFAULT clock_timestamp(),
    actor           text        NOT NULL,
    act             text        NOT NULL,
    conversation_id uuid,
    user_id         text,
    seq             bigint,
    before          text,
    after           text,
    request_id      text        NOT NULL,
    CONSTRAINT audit_pkey PRIMARY KEY (audit_id, at)
) PARTITION BY RANGE (at);
CREATE INDEX audit_actor ON nestrel.audit (actor, audit_id);
CREATE INDEX audit_conversation ON nestrel.audit (conversation_id, audit_id);
CREATE TABLE nestrel.audit_rest PARTITION OF nestrel.audit DEFAULT;
CREATE TABLE nestrel.audit_reasons (
    audit_id uuid NOT NULL CONSTRAINT audit_reasons_pkey PRIMARY KEY,
    user_id  text,
    reason   text NOT NULL
);
CREATE INDEX audit_reasons_user ON nestrel.audit_reasons (user_id)
"""
REFUSE = """
CREATE FUNCTION nestrel.audit_stays_v1() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the audit is only added to; whole months are dropped by the owner of the schema'
        USING ERRCODE = 'insufficient_privilege';
END $$
"""
TRIGGER = """
CREATE TRIGGER audit_stays BEFORE UPDATE OR DELETE ON nestrel.audit
FOR EACH ROW EXECUTE FUNCTION nestrel.audit_stays_v1()
"""
MONTHS = """
CREATE FUNCTION nestrel.audit_months_v1(ahead integer) RETURNS integer LANGUAGE plpgsql AS $$
DECLARE
    month timestamptz := date_trunc('month', clock_timestamp(), 'UTC');
    name text;
    made integer := 0;
BEGIN
    FOR n IN 0..ahead LOOP
        name := 'audit_' || to_char(month AT TIME ZONE 'UTC', 'YYYYMM');
        IF to_regclass('nestrel.' || name) IS NULL AND NOT EXISTS (
            SELECT FROM nestrel.audit_rest WHERE at >= month AND at < month + interval '1 month') THEN
            EXECUTE format('CREATE TABLE nestrel.%I PARTITION OF nestrel.audit FOR VALUES FROM (%L) TO (%L)',
                           name, month, month + interval '1 month');
            made := made + 1;
        END IF;
        month := month + interval '1 month';
    END LOOP;
    RETURN made;
END $$
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
    run(REFUSE)
    run(TRIGGER)
    run(MONTHS)
    run("SELECT nestrel.audit_months_v1(24)")
