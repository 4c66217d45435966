"""Erased identities: whom nobody may sign in as any more, without a word of who they were."""

import os

import sqlalchemy as sa
from alembic import op

from nestrel.store.migrations.naming import run, schema
from nestrel.store.native import in_schema

revision = "0032"
down_revision = "0031"
branch_labels = None
depends_on = None

# An identity is known by a digest alone, which is taken away when the erasure is taken back; the row stays, so that
# every process learns of that. A conversation that somebody's erased id was taken out of begins anew for whoever
# stands before `anew_rev`: no row says who it was that left.
TABLES = """
CREATE TABLE nestrel.erased_identities (
    erasure_id uuid        NOT NULL CONSTRAINT erased_identities_pkey PRIMARY KEY,
    digest     bytea       CONSTRAINT erased_identities_digest UNIQUE,
    changed_at timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE INDEX erased_identities_changed ON nestrel.erased_identities (changed_at);
ALTER TABLE nestrel.erasures ADD COLUMN identity boolean NOT NULL DEFAULT false, ADD COLUMN shown_as text,
    ADD COLUMN renaming uuid,
    ADD CONSTRAINT erasures_shown_as CHECK (identity = (shown_as IS NOT NULL) AND shown_as ~ '^erased-[a-z]{16}$');
ALTER TABLE nestrel.conversations ADD COLUMN anew_rev bigint NOT NULL DEFAULT 0,
    ADD COLUMN anew_xid xid8
"""

# With a key, so that a digest by itself says nothing; twice, so that nothing can be put behind an id.
DIGEST = """
CREATE FUNCTION nestrel.identity_v1(id text) RETURNS bytea LANGUAGE sql STABLE
SET search_path = pg_catalog, pg_temp AS $$
    SELECT sha256(s.value || sha256(s.value || convert_to(id, 'UTF8')))
    FROM nestrel.service_secrets s WHERE s.name = 'erased'
$$
"""

ERASED = """
CREATE FUNCTION nestrel.erased_v1(id text) RETURNS boolean LANGUAGE sql STABLE
SET search_path = pg_catalog, pg_temp AS $$
    SELECT EXISTS (SELECT FROM nestrel.erased_identities WHERE digest = nestrel.identity_v1(id))
$$
"""

# Whoever serves cannot change the audit, but what it calls somebody whose erasure is written down and under way.
RENAME = """
CREATE FUNCTION nestrel.rename_in_audit_v1(erased text) RETURNS bigint LANGUAGE plpgsql
SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
DECLARE
    shown text;
    old text := to_json(erased)::text;
    done bigint;
BEGIN
    SELECT e.shown_as INTO shown FROM nestrel.erasures e
    WHERE e.user_id = erased AND e.identity AND e.finished_at IS NULL;
    IF shown IS NULL THEN
        RAISE EXCEPTION 'no erasure of that identity is under way' USING ERRCODE = 'insufficient_privilege';
    END IF;
    UPDATE nestrel.audit a SET
        actor = CASE WHEN a.actor = erased THEN shown ELSE a.actor END,
        user_id = CASE WHEN a.user_id = erased THEN shown ELSE a.user_id END,
        before = replace(a.before, old, to_json(shown)::text),
        after = replace(a.after, old, to_json(shown)::text)
    WHERE a.actor = erased OR a.user_id = erased OR position(old IN a.before) > 0 OR position(old IN a.after) > 0;
    GET DIAGNOSTICS done = ROW_COUNT;
    DELETE FROM nestrel.audit_reasons r WHERE r.user_id = erased;
    RETURN done;
END $$
"""

STAYS = """
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
        IF EXISTS (
            SELECT FROM nestrel.erasures e WHERE e.identity AND e.finished_at IS NULL
            AND (NEW.audit_id, NEW.at, NEW.act, NEW.conversation_id, NEW.seq, NEW.request_id, NEW.times, NEW.hourly)
                IS NOT DISTINCT FROM
                (OLD.audit_id, OLD.at, OLD.act, OLD.conversation_id, OLD.seq, OLD.request_id, OLD.times, OLD.hourly)
            AND NEW.actor = CASE WHEN OLD.actor = e.user_id THEN e.shown_as ELSE OLD.actor END
            AND NEW.user_id IS NOT DISTINCT FROM
                CASE WHEN OLD.user_id = e.user_id THEN e.shown_as ELSE OLD.user_id END
            AND NEW.before IS NOT DISTINCT FROM
                replace(OLD.before, to_json(e.user_id)::text, to_json(e.shown_as)::text)
            AND NEW.after IS NOT DISTINCT FROM
                replace(OLD.after, to_json(e.user_id)::text, to_json(e.shown_as)::text))
        THEN
            RETURN NEW;
        END IF;
    END IF;
    RAISE EXCEPTION 'the audit is only added to; whole months are dropped by the owner of the schema'
        USING ERRCODE = 'insufficient_privilege';
END $$
"""


def upgrade() -> None:
    for statement in TABLES.split(";\n"):
        run(statement)
    insert = in_schema("INSERT INTO nestrel.service_secrets VALUES ('erased', :value)", schema())
    op.get_bind().execute(sa.text(insert), {"value": os.urandom(32)})
    for function in (DIGEST, ERASED, RENAME, STAYS):
        run(function)
    for signature in ("identity_v1(text)", "erased_v1(text)", "rename_in_audit_v1(text)"):
        run(f"REVOKE ALL ON FUNCTION nestrel.{signature} FROM PUBLIC")
