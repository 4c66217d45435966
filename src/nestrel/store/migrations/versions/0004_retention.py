"""Retention: rules, what they count, what waits to be taken away, and the archive."""

from nestrel.store.migrations.naming import run

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None

# `message_count` and `kept_bytes` are of the messages from the floor up that are not tombstones, so that a post finds
# what it exceeds without counting. `swept`: below it no row is left; where it stands below the floor, a row of
# `expired_backlog` says so. `inherits` is the version of the service's rule that the conversation has; null for a rule
# of its own. What expired below `earlier_below` did so under a rule that said `earlier_then`. None of these columns is
# in an index that a moving one is in: a post stays a heap-only update.
TABLES = """
ALTER TABLE nestrel.conversations
    ADD kept_bytes   bigint NOT NULL DEFAULT 0,
    ADD swept        bigint NOT NULL DEFAULT 1,
    ADD keep_last    bigint,
    ADD keep_for     text,
    ADD keep_span    interval,
    ADD keep_bytes   bigint,
    ADD after_expiry text NOT NULL DEFAULT 'archive' CHECK (after_expiry IN ('archive', 'discard')),
    ADD hold         boolean NOT NULL DEFAULT false,
    ADD inherits     integer DEFAULT 1,
    ADD earlier_then  text NOT NULL DEFAULT 'archive',
    ADD earlier_below bigint NOT NULL DEFAULT 0,
    ADD CHECK (swept <= floor);

CREATE INDEX conversations_inherits ON nestrel.conversations (inherits, id) WHERE inherits IS NOT NULL AND closed_at
IS NULL;

CREATE TABLE nestrel.service_rule (
    version      integer PRIMARY KEY,
    keep_last    bigint,
    keep_for     text,
    keep_span    interval,
    keep_bytes   bigint,
    after_expiry text NOT NULL DEFAULT 'archive',
    hold         boolean NOT NULL DEFAULT false,
    set_at       timestamptz NOT NULL DEFAULT clock_timestamp()
);
INSERT INTO nestrel.service_rule (version) VALUES (1);

CREATE TABLE nestrel.expiry_due (conversation_id uuid PRIMARY KEY, due_at timestamptz NOT NULL);
CREATE INDEX expiry_due_at ON nestrel.expiry_due (due_at);

CREATE TABLE nestrel.expired_backlog (
    conversation_id uuid PRIMARY KEY,
    next_seq        bigint NOT NULL,
    since           timestamptz NOT NULL DEFAULT clock_timestamp()
) WITH (fillfactor = 70);

CREATE TABLE nestrel.archive_segments (
    conversation_id uuid NOT NULL,
    segment         integer NOT NULL,
    first_seq       bigint NOT NULL,
    last_seq        bigint NOT NULL,
    messages        integer NOT NULL,
    bytes           bigint NOT NULL,
    sha256          bytea NOT NULL,
    archived_at     timestamptz NOT NULL DEFAULT clock_timestamp(),
    content         bytea NOT NULL,
    PRIMARY KEY (conversation_id, segment),
    CHECK (last_seq - first_seq + 1 = messages)
);
ALTER TABLE nestrel.archive_segments ALTER content SET STORAGE EXTERNAL;

CREATE TABLE nestrel.archive_authors (
    author_id       text NOT NULL,
    conversation_id uuid NOT NULL,
    segment         integer NOT NULL,
    messages        integer NOT NULL,
    PRIMARY KEY (author_id, conversation_id, segment)
);
CREATE INDEX archive_authors_of ON nestrel.archive_authors (conversation_id);

CREATE TABLE nestrel.discarded_runs (
    conversation_id uuid NOT NULL,
    first_seq       bigint NOT NULL,
    last_seq        bigint NOT NULL,
    discarded_at    timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (conversation_id, first_seq)
);

CREATE TABLE nestrel.expired_keys (
    conversation_id uuid NOT NULL,
    key_hash        bytea NOT NULL,
    seq             bigint NOT NULL,
    PRIMARY KEY (conversation_id, key_hash)
);

CREATE TABLE nestrel.erasures (
    id           uuid PRIMARY KEY,
    user_id      text NOT NULL,
    asked_by     text NOT NULL,
    asked_at     timestamptz NOT NULL,
    finished_at  timestamptz,
    at_id        uuid NOT NULL DEFAULT '00000000-0000-0000-0000-000000000000',
    messages     bigint NOT NULL DEFAULT 0,
    archived     bigint NOT NULL DEFAULT 0,
    conversations integer NOT NULL DEFAULT 0
);
CREATE INDEX erasures_open ON nestrel.erasures (id) WHERE finished_at IS NULL;

UPDATE nestrel.conversations c SET (message_count, kept_bytes) = (
    SELECT count(*), coalesce(sum(octet_length(body) + coalesce(octet_length(attributes), 0)), 0)
    FROM nestrel.messages m WHERE m.conversation_id = c.id AND m.seq >= c.floor AND m.removed_at IS NULL
)
"""

# created_at never decreases with seq, so what has expired by age is a prefix. The walk leaps from the floor, as what
# has expired since the last sweep is little. What this statement does not see yet is newer than all that it sees.
BEFORE = """
CREATE FUNCTION nestrel.before_v1(moment timestamptz, span interval) RETURNS timestamptz LANGUAGE sql STABLE AS $$
    SELECT CASE WHEN extract(day FROM moment - months) = extract(day FROM moment) THEN moment - months
                ELSE date_trunc('month', moment) - months + interval '1 month' - interval '1 microsecond' END
           - (span - months)
    FROM make_interval(months => (12 * extract(year FROM span) + extract(month FROM span))::int) months
$$
"""

FLOOR = """
CREATE FUNCTION nestrel.floor_v1(conversation uuid, floor bigint, head bigint, cutoff timestamptz) RETURNS bigint
LANGUAGE plpgsql STABLE AS $$
DECLARE
    low bigint := floor; high bigint := head + 1; probe bigint := floor; leap bigint := 1; at timestamptz;
BEGIN
    WHILE low < high LOOP
        SELECT m.created_at INTO at FROM nestrel.messages m WHERE m.conversation_id = conversation AND m.seq = probe;
        IF at IS NULL OR at > cutoff THEN
            high := probe; leap := 0;
        ELSE
            low := probe + 1; leap := leap * 2;
        END IF;
        probe := CASE WHEN leap > 0 THEN least(low + leap - 1, high - 1) ELSE (low + high) / 2 END;
    END LOOP;
    RETURN low;
END $$
"""


def upgrade() -> None:
    for statement in TABLES.split(";\n"):
        if statement.strip():
            run(statement)
    run(BEFORE)
    run("COMMENT ON FUNCTION nestrel.before_v1 IS 'The moment so far back, on the calendar of UTC.'")
    run(FLOOR)
    run(
        "COMMENT ON FUNCTION nestrel.floor_v1 IS "
        "'The lowest seq from floor up that was written after the cutoff; head + 1 if none.'"
    )
