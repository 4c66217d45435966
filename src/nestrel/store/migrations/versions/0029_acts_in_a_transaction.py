"""Conversations, members and people in the application's own transaction, beside posts."""

from collections.abc import Iterator

from nestrel.store.migrations.naming import run

revision = "0029"
down_revision = "0028"
branch_labels = None
depends_on = None

# In one order with the posts that wait: tickets are of one sequence. A post for a conversation that is not there yet
# waits here, under its name, where processes of before do not take it.
TABLES = """
CREATE TABLE nestrel.acts_waiting (
    ticket          bigint      NOT NULL DEFAULT nextval('nestrel.posts_waiting_ticket_seq')
                                CONSTRAINT acts_waiting_pkey PRIMARY KEY,
    act             text        NOT NULL CONSTRAINT acts_waiting_act_check
                                CHECK (act IN ('make', 'put_member', 'remove_member', 'put_person', 'post')),
    conversation_id uuid,
    name_key        text,
    user_id         text,
    detail          json        NOT NULL,
    posted_as       text        NOT NULL,
    waits_since     timestamptz NOT NULL DEFAULT clock_timestamp()
) WITH (autovacuum_vacuum_scale_factor = 0, autovacuum_vacuum_threshold = 2000,
        autovacuum_vacuum_insert_scale_factor = 0, autovacuum_vacuum_cost_delay = 0);
CREATE INDEX acts_waiting_user ON nestrel.acts_waiting (user_id);
CREATE INDEX acts_waiting_made ON nestrel.acts_waiting (name_key) WHERE act = 'make';
ALTER TABLE nestrel.refused_posts ALTER COLUMN conversation_id DROP NOT NULL, ALTER COLUMN author DROP NOT NULL,
    ALTER COLUMN key DROP NOT NULL;
CREATE VIEW nestrel.refused AS
SELECT ticket, refused_at AS at, problem FROM nestrel.refused_posts
WHERE refused_at > clock_timestamp() - interval '7 days'
"""

# As `core.text` has it: one line, no control characters, none that turn the direction of others, not blank.
LINE = r"""
CREATE FUNCTION nestrel.is_line_v1(line text, most integer) RETURNS boolean LANGUAGE sql IMMUTABLE STRICT
SET search_path = pg_catalog, pg_temp AS $$
    SELECT octet_length(line) <= 4 * most AND char_length(line) <= most AND btrim(line, {spaces}) <> ''
       AND line !~ U&'[\0001-\001f\007f-\009f\202a-\202e\2066-\2069]'
$$
"""

# What is large is refused by its size alone, before anything goes through it.
ATTRIBUTES = r"""
CREATE FUNCTION nestrel.check_attributes_v1(attributes json) RETURNS void LANGUAGE plpgsql
SET search_path = pg_catalog, pg_temp AS $$
BEGIN
    IF attributes IS NULL THEN
        RETURN;
    END IF;
    IF octet_length(attributes::text) > 65536 THEN
        RAISE invalid_parameter_value USING
            MESSAGE = 'attributes take more than 4,096 bytes; white space counts up to 65,536';
    END IF;
    IF json_typeof(attributes) <> 'object' THEN
        RAISE invalid_parameter_value USING MESSAGE = 'attributes must be a JSON object';
    END IF;
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
END $$
"""

# A conversation by its id or its name; or by the name alone, where an earlier ticket makes it: one of this transaction,
# or one that waits.
PLACE = r"""
CREATE FUNCTION nestrel.place_v1(conversation text, OUT place uuid, OUT awaited text) LANGUAGE plpgsql
SET search_path = pg_catalog, pg_temp AS $$
BEGIN
    IF conversation IS NULL OR octet_length(conversation) > 1024 THEN
        RAISE invalid_parameter_value USING MESSAGE = 'conversation must be the id or the name of a conversation';
    END IF;
    IF conversation ~* '^[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}$' THEN
        place := conversation::uuid;
        RETURN;
    END IF;
    SELECT c.id INTO place FROM nestrel.conversations c
    WHERE c.name_key = nestrel.name_key_v1(conversation) AND c.closed_at IS NULL;
    IF place IS NULL THEN
        SELECT w.name_key INTO awaited FROM nestrel.acts_waiting w
        WHERE w.act = 'make' AND w.name_key = nestrel.name_key_v1(conversation) LIMIT 1;
        IF awaited IS NULL THEN
            RAISE invalid_parameter_value USING MESSAGE = format('there is no conversation called %L', conversation),
                HINT = 'Name an open conversation, or give its id, or make it before.';
        END IF;
    END IF;
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
    awaited text;
    ticket bigint;
    fault text;
BEGIN
    -- What is large is refused by its size alone, before anything goes through it.
    mentions := coalesce(mentions, '{}');
    fault := CASE
        WHEN array_length(mentions, 1) > 1000 OR array_ndims(mentions) > 1 THEN 'mentions has more than 1,000 entries'
        WHEN octet_length(author) > 1024 THEN
            'author must be a user id: 1 to 128 characters, no control characters, neither me nor all'
        WHEN octet_length(key) > 1024 THEN 'key must have 1 to 128 characters'
        WHEN octet_length(body) > 32000 THEN 'body has more than 8,000 characters; send it as several messages'
    END;
    IF fault IS NOT NULL THEN
        RAISE invalid_parameter_value USING MESSAGE = fault;
    END IF;
    mentions := ARRAY(SELECT m FROM unnest(mentions) WITH ORDINALITY AS u (m, n) GROUP BY m ORDER BY min(n));
    fault := CASE
        WHEN author IS NULL OR NOT nestrel.is_person_v1(author) THEN
            'author must be a user id: 1 to 128 characters, no control characters, neither me nor all'
        WHEN key IS NULL OR char_length(key) NOT BETWEEN 1 AND 128 THEN 'key must have 1 to 128 characters'
        WHEN body IS NULL OR btrim(body, {spaces}) = '' THEN 'body must not be empty or blank'
        WHEN char_length(body) > 8000 THEN 'body has more than 8,000 characters; send it as several messages'
        WHEN format IS NULL OR format NOT IN ('plain', 'markdown') THEN 'format must be plain or markdown'
        WHEN EXISTS (SELECT FROM unnest(mentions) m WHERE m IS NULL OR NOT nestrel.is_person_v1(m)) THEN
            'mentions must be user ids'
        WHEN cardinality(mentions) > 50 THEN 'mentions has more than 50 users'
        WHEN reply_to NOT BETWEEN 1 AND 9007199254740991 THEN 'reply_to must be the number of a message'
    END;
    IF fault IS NOT NULL THEN
        RAISE invalid_parameter_value USING MESSAGE = fault;
    END IF;
    PERFORM nestrel.check_attributes_v1(attributes);
    SELECT p.place, p.awaited INTO place, awaited FROM nestrel.place_v1(conversation) p;
    IF awaited IS NOT NULL THEN
        INSERT INTO nestrel.acts_waiting AS w (act, name_key, user_id, detail, posted_as)
        VALUES ('post', awaited, author, json_build_object('key', key, 'body', body, 'format', format,
            'attributes', attributes, 'mentions', to_json(mentions), 'reply_to', reply_to), session_user)
        RETURNING w.ticket INTO ticket;
    ELSE
        INSERT INTO nestrel.posts_waiting AS w
            (conversation_id, author_id, key, body, format, attributes, mentions, reply_to, posted_as)
        VALUES (place, author, key, body, format, attributes, mentions, reply_to, session_user)
        RETURNING w.ticket INTO ticket;
    END IF;
    RETURN ticket;
END $$
"""

MAKE = r"""
CREATE FUNCTION nestrel.make_conversation(
    name text, title text DEFAULT NULL, kind text DEFAULT 'group', visibility text DEFAULT 'closed',
    members text[] DEFAULT '{}', owner text DEFAULT NULL, attributes json DEFAULT NULL
) RETURNS bigint LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
#variable_conflict use_variable
DECLARE
    ticket bigint;
    fault text;
BEGIN
    members := coalesce(members, '{}');
    title := coalesce(title, '');
    fault := CASE
        WHEN array_length(members, 1) > 2000 OR array_ndims(members) > 1 THEN 'members has more than 1,000 users'
        WHEN octet_length(owner) > 1024 THEN 'owner must be a user id'
        WHEN kind IS NULL OR kind NOT IN ('group', 'direct', 'bulletin') THEN
            'kind must be group, direct or bulletin'
        WHEN visibility IS NULL OR visibility NOT IN ('open', 'closed') THEN 'visibility must be open or closed'
        WHEN octet_length(title) > 800 OR char_length(title) > 200 OR title ~ U&'[\0001-\001f\007f-\009f]' THEN
            'title must be one line of at most 200 characters'
    END;
    IF fault IS NOT NULL THEN
        RAISE invalid_parameter_value USING MESSAGE = fault;
    END IF;
    members := ARRAY(SELECT m FROM unnest(members) WITH ORDINALITY AS u (m, n) GROUP BY m ORDER BY min(n));
    fault := CASE
        WHEN EXISTS (SELECT FROM unnest(members) m
                     WHERE m IS NULL OR octet_length(m) > 1024 OR NOT nestrel.is_person_v1(m)) THEN
            'members must be user ids: 1 to 128 characters, no control characters, neither me nor all'
        WHEN cardinality(members) > 1000 THEN 'members has more than 1,000 users'
        WHEN NOT nestrel.is_person_v1(owner) THEN 'owner must be a user id'
        WHEN kind = 'direct' AND name IS NOT NULL THEN 'a direct conversation has no name'
        WHEN kind = 'direct' AND owner IS NOT NULL THEN 'a direct conversation has no owner'
        WHEN kind = 'direct' AND visibility = 'open' THEN 'a direct conversation is always closed'
        WHEN kind = 'direct' AND cardinality(members) <> 2 THEN 'a direct conversation has exactly two members'
        WHEN kind <> 'direct' AND name IS NULL THEN
            'name must be given: by it a repeat is told, and later tickets name the conversation'
        WHEN NOT nestrel.is_line_v1(name, 80) OR btrim(name, {spaces}) <> name THEN
            'name must be one line of 1 to 80 characters, with no white space around it'
    END;
    IF fault IS NOT NULL THEN
        RAISE invalid_parameter_value USING MESSAGE = fault;
    END IF;
    PERFORM nestrel.check_attributes_v1(attributes);
    INSERT INTO nestrel.acts_waiting AS w (act, name_key, user_id, detail, posted_as)
    VALUES ('make', nestrel.name_key_v1(name), owner, json_build_object('name', name, 'title', title, 'kind', kind,
        'visibility', visibility, 'members', to_json(members), 'attributes', attributes), session_user)
    RETURNING w.ticket INTO ticket;
    RETURN ticket;
END $$
"""

MEMBER = r"""
CREATE FUNCTION nestrel.put_member(conversation text, user_id text, role text DEFAULT 'writer')
RETURNS bigint LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
#variable_conflict use_variable
DECLARE
    ticket bigint;
BEGIN
    IF user_id IS NULL OR octet_length(user_id) > 1024 OR NOT nestrel.is_person_v1(user_id) THEN
        RAISE invalid_parameter_value USING
            MESSAGE = 'user_id must be 1 to 128 characters, no control characters, neither me nor all';
    END IF;
    IF role IS NULL OR role NOT IN ('owner', 'moderator', 'writer', 'reader') THEN
        RAISE invalid_parameter_value USING MESSAGE = 'role must be owner, moderator, writer or reader';
    END IF;
    INSERT INTO nestrel.acts_waiting AS w (act, conversation_id, name_key, user_id, detail, posted_as)
    SELECT 'put_member', p.place, p.awaited, user_id, json_build_object('role', role), session_user
    FROM nestrel.place_v1(conversation) p
    RETURNING w.ticket INTO ticket;
    RETURN ticket;
END $$
"""

REMOVE = r"""
CREATE FUNCTION nestrel.remove_member(conversation text, user_id text)
RETURNS bigint LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
#variable_conflict use_variable
DECLARE
    ticket bigint;
BEGIN
    IF user_id IS NULL OR octet_length(user_id) > 1024 OR NOT nestrel.is_person_v1(user_id) THEN
        RAISE invalid_parameter_value USING
            MESSAGE = 'user_id must be 1 to 128 characters, no control characters, neither me nor all';
    END IF;
    INSERT INTO nestrel.acts_waiting AS w (act, conversation_id, name_key, user_id, detail, posted_as)
    SELECT 'remove_member', p.place, p.awaited, user_id, '{}', session_user FROM nestrel.place_v1(conversation) p
    RETURNING w.ticket INTO ticket;
    RETURN ticket;
END $$
"""

PERSON = r"""
CREATE FUNCTION nestrel.put_person(user_id text, display_name text, picture text DEFAULT NULL)
RETURNS bigint LANGUAGE plpgsql SECURITY DEFINER SET search_path = pg_catalog, pg_temp AS $$
#variable_conflict use_variable
DECLARE
    ticket bigint;
    fault text;
BEGIN
    fault := CASE
        WHEN user_id IS NULL OR octet_length(user_id) > 1024 OR NOT nestrel.is_person_v1(user_id) THEN
            'user_id must be 1 to 128 characters, no control characters, neither me nor all'
        WHEN display_name IS NULL OR NOT nestrel.is_line_v1(display_name, 128) THEN
            'display_name must be one line of 1 to 128 characters'
        WHEN NOT nestrel.is_line_v1(picture, 2000) OR picture !~ '^https?://[^\s/]+' THEN
            'picture must be an absolute http or https address of at most 2,000 characters'
    END;
    IF fault IS NOT NULL THEN
        RAISE invalid_parameter_value USING MESSAGE = fault;
    END IF;
    INSERT INTO nestrel.acts_waiting AS w (act, user_id, detail, posted_as)
    VALUES ('put_person', user_id, json_build_object('display_name', display_name, 'picture', picture), session_user)
    RETURNING w.ticket INTO ticket;
    RETURN ticket;
END $$
"""
_CALLED = (
    "make_conversation(text, text, text, text, text[], text, json)",
    "put_member(text, text, text)",
    "remove_member(text, text)",
    "put_person(text, text, text)",
)


def _spaces() -> Iterator[str]:
    codes = (code for code in range(1, 0x110000) if not 0xD800 <= code <= 0xDFFF)
    return (f"\\U{code:08x}" for code in codes if chr(code).isspace())


def upgrade() -> None:
    for statement in TABLES.split(";\n"):
        run(statement)
    spaces = "E'" + "".join(_spaces()) + "'"
    for function in (LINE, ATTRIBUTES, PLACE, POST, MAKE, MEMBER, REMOVE, PERSON):
        run(function.replace("{spaces}", spaces))
    for signature in (*_CALLED, "is_line_v1(text, integer)", "check_attributes_v1(json)", "place_v1(text)"):
        run(f"REVOKE ALL ON FUNCTION nestrel.{signature} FROM PUBLIC")
