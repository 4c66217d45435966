"""Posting in the application's own transaction."""

from collections.abc import Iterator

from nestrel.store.migrations.naming import run

revision = "0023"
down_revision = "0022"
branch_labels = None
depends_on = None

# Rows come and go by the thousand, and nobody waits for the oldest: it is what is present that counts.
TABLES = """
CREATE TABLE nestrel.posts_waiting (
    ticket          bigint      GENERATED ALWAYS AS IDENTITY CONSTRAINT posts_waiting_pkey PRIMARY KEY,
    conversation_id uuid        NOT NULL,
    author_id       text        NOT NULL,
    key             text        NOT NULL,
    body            text        NOT NULL,
    format          text        NOT NULL,
    attributes      json,
    mentions        text[]      NOT NULL,
    reply_to        bigint,
    posted_as       text        NOT NULL,
    waits_since     timestamptz NOT NULL DEFAULT clock_timestamp()
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000,
        autovacuum_vacuum_insert_scale_factor = 0, autovacuum_vacuum_cost_delay = 0);
CREATE INDEX posts_waiting_author ON nestrel.posts_waiting (author_id);
CREATE TABLE nestrel.refused_posts (
    ticket          bigint      NOT NULL CONSTRAINT refused_posts_pkey PRIMARY KEY,
    conversation_id uuid        NOT NULL,
    author          text        NOT NULL,
    key             text        NOT NULL,
    problem         json        NOT NULL,
    refused_at      timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE INDEX refused_posts_author ON nestrel.refused_posts (author);
CREATE INDEX refused_posts_old ON nestrel.refused_posts (refused_at)
"""

# As `core.text.name_key`: compatibility form, full case folding (Unicode 3.13), compatibility form. The server's own
# `lower` depends on its locale, so the folding is written out.
NAME_KEY = """
CREATE FUNCTION nestrel.name_key_v1(name text) RETURNS text LANGUAGE plpgsql IMMUTABLE STRICT
SET search_path = pg_catalog, pg_temp AS $$
DECLARE
    folded text := translate(normalize(name, NFKC), {alone}, {folded});
    longer text[] := {longer};
    n integer;
BEGIN
    IF octet_length(folded) > char_length(folded) THEN
        FOR n IN 1 .. array_length(longer, 1) / 2 LOOP
            folded := replace(folded, longer[2 * n - 1], longer[2 * n]);
        END LOOP;
    END IF;
    RETURN normalize(folded, NFKC);
END $$
"""

PERSON = r"""
CREATE FUNCTION nestrel.is_person_v1(id text) RETURNS boolean LANGUAGE sql IMMUTABLE STRICT
SET search_path = pg_catalog, pg_temp AS $$
    SELECT btrim(id, {spaces}) <> '' AND id NOT IN ('me', 'all') AND id !~ U&'[\0001-\001f\007f-\009f]'
       AND char_length(id) + char_length(regexp_replace(id, U&'[^\+010000-\+10ffff]', '', 'g')) <= 128
$$
"""

POST = r"""
CREATE FUNCTION nestrel.post(
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
    mentions := coalesce(mentions, '{}');
    named := (SELECT count(DISTINCT m) FROM unnest(mentions) m);
    fault := CASE
        WHEN conversation IS NULL THEN 'conversation must be the id or the name of a conversation'
        WHEN author IS NULL OR NOT nestrel.is_person_v1(author) THEN
            'author must be a user id: 1 to 128 characters, no control characters, neither me nor all'
        WHEN key IS NULL OR char_length(key) NOT BETWEEN 1 AND 128 THEN 'key must have 1 to 128 characters'
        WHEN body IS NULL OR btrim(body, {spaces}) = '' THEN 'body must not be empty or blank'
        WHEN char_length(body) > 8000 THEN 'body has more than 8,000 characters; send it as several messages'
        WHEN format IS NULL OR format NOT IN ('plain', 'markdown') THEN 'format must be plain or markdown'
        WHEN attributes IS NOT NULL AND json_typeof(attributes) <> 'object' THEN 'attributes must be a JSON object'
        WHEN array_ndims(mentions) > 1 OR EXISTS (
            SELECT FROM unnest(mentions) m WHERE m IS NULL OR NOT nestrel.is_person_v1(m)
        ) THEN 'mentions must be user ids'
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
        EXCEPTION WHEN untranslatable_character OR invalid_text_representation OR numeric_value_out_of_range THEN
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
COMPACT = r"""
CREATE FUNCTION nestrel.compact_v1(document text) RETURNS text LANGUAGE sql IMMUTABLE STRICT
SET search_path = pg_catalog, pg_temp AS $$
    SELECT regexp_replace(document, '("(?:[^"\\]|\\.)*")|\s+', '\1', 'g')
$$
"""
_SIGNATURE = "nestrel.post(text, text, text, text, text, json, text[], bigint)"


def _quoted(text: str) -> str:
    return "'" + text.replace("'", "''") + "'"


def _characters() -> Iterator[str]:
    return (chr(code) for code in range(1, 0x110000) if not 0xD800 <= code <= 0xDFFF)


def upgrade() -> None:
    for statement in TABLES.split(";\n"):
        run(statement)
    changed = [(one, one.casefold()) for one in _characters() if one != one.casefold()]
    alone = [(one, folded) for one, folded in changed if len(folded) == 1]
    longer = [part for one, folded in changed if len(folded) > 1 for part in (one, folded)]
    spaces = "E'" + "".join(f"\\U{ord(one):08x}" for one in _characters() if one.isspace()) + "'"
    statements = (
        NAME_KEY.replace("{alone}", _quoted("".join(one for one, _ in alone)))
        .replace("{folded}", _quoted("".join(folded for _, folded in alone)))
        .replace("{longer}", f"ARRAY[{', '.join(map(_quoted, longer))}]"),
        PERSON.replace("{spaces}", spaces),
        COMPACT,
        POST.replace("{spaces}", spaces),
        f"REVOKE ALL ON FUNCTION {_SIGNATURE} FROM PUBLIC",
    )
    for statement in statements:
        run(statement)
