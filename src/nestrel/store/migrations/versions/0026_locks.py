"""Locks that only who serves can take; what is too large to be left in a transaction; months of the audit that are made
by themselves, and reasons that go by an erasure alone; invitations to a role above writer, which are an owner's; names
that look alike."""

from collections.abc import Iterator

import sqlalchemy as sa
from alembic import op

from nestrel.store.confusables import skeletons
from nestrel.store.migrations.naming import run, schema
from nestrel.store.native import in_schema

revision = "0026"
down_revision = "0025"
branch_labels = None
depends_on = None

# All of it can be done again: the indexes at its end are made when what stands before them has been committed.
# An advisory lock is anybody's who may connect. A row is locked by who may write to its table.
TABLES = """
CREATE TABLE IF NOT EXISTS nestrel.locks (name text NOT NULL CONSTRAINT locks_pkey PRIMARY KEY);
INSERT INTO nestrel.locks
SELECT name FROM unnest(ARRAY['posts waiting', 'adopting names', 'retention']) AS name
UNION ALL SELECT 'pair ' || n FROM generate_series(0, 255) n
ON CONFLICT DO NOTHING;
ALTER TABLE nestrel.conversations ADD COLUMN IF NOT EXISTS name_look text;
CREATE UNLOGGED TABLE IF NOT EXISTS nestrel.rate_counts (
    policy text      NOT NULL,
    key    text      NOT NULL,
    at     bigint    NOT NULL,
    slots  integer[] NOT NULL,
    CONSTRAINT rate_counts_pkey PRIMARY KEY (policy, key)
) WITH (fillfactor = 50);
DELETE FROM nestrel.invitations i USING nestrel.members m
WHERE i.role IN ('owner', 'moderator') AND NOT i.by_service AND m.conversation_id = i.conversation_id
  AND m.user_id = i.created_by AND m.role <> 'owner'
"""

# A minute is over when the second of its beginning is: sixty slots of a second are a little less, and what came in the
# first of them counted no more while it was of the last sixty seconds.
TAKE = """
CREATE OR REPLACE FUNCTION nestrel.take_rates_v2(
    policies text[], keys text[], done integer[], wanted integer[], most integer[]
) RETURNS TABLE (granted boolean, remaining integer, seconds integer) LANGUAGE plpgsql AS $$
DECLARE
    n integer;
    now bigint;
    before bigint;
    ring integer[];
    used integer;
    freed integer;
BEGIN
    FOR n IN 1..coalesce(array_length(keys, 1), 0) LOOP
        INSERT INTO nestrel.rate_counts (policy, key, at, slots)
        VALUES (policies[n], keys[n], 0, array_fill(0, ARRAY[61])) ON CONFLICT DO NOTHING;
        SELECT r.at, r.slots INTO before, ring FROM nestrel.rate_counts r
        WHERE r.policy = policies[n] AND r.key = keys[n] FOR NO KEY UPDATE;
        now := greatest(floor(extract(epoch FROM clock_timestamp()))::bigint, before);
        IF now - before >= 61 THEN
            ring := array_fill(0, ARRAY[61]);
        ELSE
            FOR past IN 1..(now - before)::integer LOOP
                ring[(before + past) % 61 + 1] := 0;
            END LOOP;
        END IF;
        SELECT sum(x) INTO used FROM unnest(ring) x;
        used := used + done[n];
        granted := used + wanted[n] <= most[n];
        IF granted THEN
            used := used + wanted[n];
        END IF;
        ring[now % 61 + 1] := ring[now % 61 + 1] + done[n] + CASE WHEN granted THEN wanted[n] ELSE 0 END;
        IF done[n] > 0 OR granted THEN
            UPDATE nestrel.rate_counts r SET at = now, slots = ring WHERE r.policy = policies[n] AND r.key = keys[n];
        END IF;
        remaining := greatest(most[n] - used, 0);
        seconds := 60;
        freed := 0;
        IF NOT granted THEN
            FOR ahead IN 1..61 LOOP
                freed := freed + ring[(now + ahead) % 61 + 1];
                IF used - freed + wanted[n] <= most[n] THEN
                    seconds := least(ahead, 60);
                    EXIT;
                END IF;
            END LOOP;
        END IF;
        RETURN NEXT;
    END LOOP;
END $$
"""

# On tables that may be large: nobody waits for them. One that was cut short stands there and is of no use.
INDEXES = {
    "conversations_look": "UNIQUE INDEX CONCURRENTLY conversations_look ON nestrel.conversations (name_look) "
    "WHERE name_look IS NOT NULL AND closed_at IS NULL",
    "conversations_unlooked": "INDEX CONCURRENTLY conversations_unlooked ON nestrel.conversations (id) "
    "WHERE name IS NOT NULL AND name_look IS NULL AND closed_at IS NULL",
    "invitations_maker": "INDEX CONCURRENTLY invitations_maker ON nestrel.invitations (created_by)",
}

# As before, and by whoever serves: a table of a month is the owner's alone, and is written to through the whole.
MONTHS = """
CREATE OR REPLACE FUNCTION nestrel.audit_months_v1(ahead integer) RETURNS integer LANGUAGE plpgsql
SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
DECLARE
    month timestamptz := date_trunc('month', clock_timestamp(), 'UTC');
    name text;
    grantee text;
    made integer := 0;
BEGIN
    FOR n IN 0..least(ahead, 24) LOOP
        name := 'audit_' || to_char(month AT TIME ZONE 'UTC', 'YYYYMM');
        IF to_regclass('nestrel.' || name) IS NULL AND NOT EXISTS (
            SELECT FROM nestrel.audit_rest WHERE at >= month AND at < month + interval '1 month') THEN
            EXECUTE format('CREATE TABLE nestrel.%I PARTITION OF nestrel.audit FOR VALUES FROM (%L) TO (%L)',
                           name, month, month + interval '1 month');
            FOR grantee IN
                SELECT DISTINCT a.grantee::regrole::text FROM pg_class c, aclexplode(c.relacl) a
                WHERE c.oid = to_regclass('nestrel.' || name) AND a.grantee NOT IN (0, c.relowner)
            LOOP
                EXECUTE format('REVOKE ALL ON nestrel.%I FROM %s', name, grantee);
            END LOOP;
            made := made + 1;
        END IF;
        month := month + interval '1 month';
    END LOOP;
    RETURN made;
END $$
"""

# Whoever serves cannot delete reasons, but those of somebody whose erasure is written down.
FORGET = """
CREATE OR REPLACE FUNCTION nestrel.forget_reasons_v1(erased text) RETURNS bigint LANGUAGE plpgsql
SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
DECLARE
    gone bigint;
BEGIN
    IF NOT EXISTS (SELECT FROM nestrel.erasures e WHERE e.user_id = erased) THEN
        RAISE EXCEPTION 'no erasure of that person is written down' USING ERRCODE = 'insufficient_privilege';
    END IF;
    DELETE FROM nestrel.audit_reasons r WHERE r.user_id = erased
        OR r.audit_id IN (SELECT a.audit_id FROM nestrel.audit a WHERE a.actor = erased);
    GET DIAGNOSTICS gone = ROW_COUNT;
    RETURN gone;
END $$
"""

POST = r"""
CREATE OR REPLACE FUNCTION nestrel.post(
    conversation text, author text, key text, body text, format text DEFAULT 'plain', attributes json DEFAULT NULL,
    mentions text[] DEFAULT '{}', reply_to bigint DEFAULT NULL
) RETURNS bigint LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
#variable_conflict use_variable
DECLARE
    place uuid;
    named integer;
    ticket bigint;
    fault text;
BEGIN
    -- What is large is refused by its size alone, before anything goes through it.
    mentions := coalesce(mentions, '{}');
    fault := CASE
        WHEN array_length(mentions, 1) > 1000 OR array_ndims(mentions) > 1 THEN 'mentions has more than 1,000 entries'
        WHEN octet_length(conversation) > 1024 THEN 'conversation must be the id or the name of a conversation'
        WHEN octet_length(author) > 1024 THEN
            'author must be a user id: 1 to 128 characters, no control characters, neither me nor all'
        WHEN octet_length(key) > 1024 THEN 'key must have 1 to 128 characters'
        WHEN octet_length(body) > 32000 THEN 'body has more than 8,000 characters; send it as several messages'
        WHEN octet_length(attributes::text) > 65536 THEN
            'attributes take more than 4,096 bytes; white space counts up to 65,536'
    END;
    IF fault IS NOT NULL THEN
        RAISE invalid_parameter_value USING MESSAGE = fault;
    END IF;
    mentions := ARRAY(SELECT m FROM unnest(mentions) WITH ORDINALITY AS u (m, n) GROUP BY m ORDER BY min(n));
    named := cardinality(mentions);
    fault := CASE
        WHEN conversation IS NULL THEN 'conversation must be the id or the name of a conversation'
        WHEN author IS NULL OR NOT nestrel.is_person_v1(author) THEN
            'author must be a user id: 1 to 128 characters, no control characters, neither me nor all'
        WHEN key IS NULL OR char_length(key) NOT BETWEEN 1 AND 128 THEN 'key must have 1 to 128 characters'
        WHEN body IS NULL OR btrim(body, {spaces}) = '' THEN 'body must not be empty or blank'
        WHEN char_length(body) > 8000 THEN 'body has more than 8,000 characters; send it as several messages'
        WHEN format IS NULL OR format NOT IN ('plain', 'markdown') THEN 'format must be plain or markdown'
        WHEN attributes IS NOT NULL AND json_typeof(attributes) <> 'object' THEN 'attributes must be a JSON object'
        WHEN EXISTS (SELECT FROM unnest(mentions) m WHERE m IS NULL OR NOT nestrel.is_person_v1(m)) THEN
            'mentions must be user ids'
        WHEN named > 50 THEN 'mentions has more than 50 users'
        WHEN reply_to NOT BETWEEN 1 AND 9007199254740991 THEN 'reply_to must be the number of a message'
    END;
    IF fault IS NOT NULL THEN
        RAISE invalid_parameter_value USING MESSAGE = fault;
    END IF;
    IF attributes IS NOT NULL THEN
        BEGIN
            -- Too large however it is written: as it came, and as the server writes it, both without white space.
            IF least(octet_length(nestrel.compact_v1(attributes::text)),
                     octet_length(nestrel.compact_v1(attributes::jsonb::text))) > 4096 THEN
                RAISE invalid_parameter_value USING MESSAGE = 'attributes take more than 4,096 bytes';
            END IF;
            IF jsonb_path_exists(attributes::jsonb, '$.**{32 to last}') THEN
                RAISE invalid_parameter_value USING MESSAGE = 'attributes are nested more than 32 deep';
            END IF;
            IF jsonb_path_exists(attributes::jsonb,
                '$.** ? (@.type() == "number" && (@ > 1.7976931348623157e308 || @ < -1.7976931348623157e308))') THEN
                RAISE invalid_parameter_value USING MESSAGE = 'attributes hold a number beyond what JSON readers take';
            END IF;
        EXCEPTION WHEN untranslatable_character OR invalid_text_representation OR numeric_value_out_of_range
            OR statement_too_complex THEN
            RAISE invalid_parameter_value USING
                MESSAGE = 'attributes must be JSON (RFC 8259) without the character NUL or lone surrogates';
        END;
    END IF;
    IF conversation ~* '^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$' THEN
        place := conversation::uuid;
    ELSE
        SELECT c.id INTO place FROM nestrel.conversations c
        WHERE c.name_key = nestrel.name_key_v1(conversation) AND c.closed_at IS NULL;
        IF place IS NULL THEN
            RAISE invalid_parameter_value USING MESSAGE = format('there is no conversation called %L', conversation),
                HINT = 'Name an open conversation, or give its id.';
        END IF;
    END IF;
    INSERT INTO nestrel.posts_waiting AS w
        (conversation_id, author_id, key, body, format, attributes, mentions, reply_to, posted_as)
    VALUES (place, author, key, body, format, attributes, mentions, reply_to, session_user)
    RETURNING w.ticket INTO ticket;
    RETURN ticket;
END $$
"""


def _characters() -> Iterator[str]:
    return (chr(code) for code in range(1, 0x110000) if not 0xD800 <= code <= 0xDFFF)


def _rekey() -> None:
    """Names that people hold are looked up by what they look like, of which more is left out now."""
    connection, key = op.get_bind(), skeletons().key
    held = in_schema("SELECT user_id, kind, key, name FROM nestrel.held_names", schema())
    update = in_schema(
        "UPDATE nestrel.held_names SET key = :new WHERE user_id = :user_id AND kind = :kind AND key = :key AND NOT "
        "EXISTS (SELECT FROM nestrel.held_names h WHERE h.user_id = :user_id AND h.kind = :kind AND h.key = :new)",
        schema(),
    )
    for user_id, kind, old, name in connection.execute(sa.text(held)).all():
        if (new := key(name)) != old:
            values = {"user_id": user_id, "kind": kind, "key": old, "new": new}
            connection.execute(sa.text(update), values)


def upgrade() -> None:
    for statement in TABLES.split(";\n"):
        run(statement)
    run(TAKE)
    run(MONTHS)
    run(FORGET)
    spaces = "E'" + "".join(f"\\U{ord(one):08x}" for one in _characters() if one.isspace()) + "'"
    run(POST.replace("{spaces}", spaces))
    _rekey()
    for function in ("audit_months_v1(integer)", "forget_reasons_v1(text)"):
        run(f"REVOKE ALL ON FUNCTION nestrel.{function} FROM PUBLIC")
    with op.get_context().autocommit_block():
        for name, made in INDEXES.items():
            run(f"DROP INDEX CONCURRENTLY IF EXISTS nestrel.{name}")
            run(f"CREATE {made}")
