"""The processes that serve, and the counts that they share."""

from nestrel.store.migrations.naming import run

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None

# Of passing worth: not in the log of the database, and empty after a crash of it. A count is a ring of sixty seconds;
# `at` is the newest of them. Room is left so that a change stays in its page.
STATEMENTS = """
CREATE UNLOGGED TABLE nestrel.processes (
    node    text        NOT NULL CONSTRAINT processes_pkey PRIMARY KEY,
    beat_at timestamptz NOT NULL DEFAULT clock_timestamp()
) WITH (fillfactor = 50);
CREATE UNLOGGED TABLE nestrel.rates (
    policy text      NOT NULL,
    key    text      NOT NULL,
    at     bigint    NOT NULL,
    slots  integer[] NOT NULL,
    CONSTRAINT rates_pkey PRIMARY KEY (policy, key)
) WITH (fillfactor = 50)
"""
TAKE = """
CREATE FUNCTION nestrel.take_rates_v1(policies text[], keys text[], done integer[], wanted integer[], most integer[])
RETURNS TABLE (granted boolean, remaining integer, seconds integer) LANGUAGE plpgsql AS $$
DECLARE
    n integer;
    now bigint;
    before bigint;
    ring integer[];
    used integer;
    freed integer;
BEGIN
    FOR n IN 1..coalesce(array_length(keys, 1), 0) LOOP
        INSERT INTO nestrel.rates (policy, key, at, slots) VALUES (policies[n], keys[n], 0, array_fill(0, ARRAY[60]))
        ON CONFLICT DO NOTHING;
        SELECT r.at, r.slots INTO before, ring FROM nestrel.rates r WHERE r.policy = policies[n] AND r.key = keys[n]
        FOR NO KEY UPDATE;
        now := greatest(floor(extract(epoch FROM clock_timestamp()))::bigint, before);
        IF now - before >= 60 THEN
            ring := array_fill(0, ARRAY[60]);
        ELSE
            FOR past IN 1..(now - before)::integer LOOP
                ring[(before + past) % 60 + 1] := 0;
            END LOOP;
        END IF;
        SELECT sum(x) INTO used FROM unnest(ring) x;
        used := used + done[n];
        granted := used + wanted[n] <= most[n];
        IF granted THEN
            used := used + wanted[n];
        END IF;
        ring[now % 60 + 1] := ring[now % 60 + 1] + done[n] + CASE WHEN granted THEN wanted[n] ELSE 0 END;
        IF done[n] > 0 OR granted THEN
            UPDATE nestrel.rates r SET at = now, slots = ring WHERE r.policy = policies[n] AND r.key = keys[n];
        END IF;
        remaining := greatest(most[n] - used, 0);
        seconds := 60;
        freed := 0;
        IF NOT granted THEN
            FOR ahead IN 1..60 LOOP
                freed := freed + ring[(now + ahead) % 60 + 1];
                IF used - freed + wanted[n] <= most[n] THEN
                    seconds := ahead;
                    EXIT;
                END IF;
            END LOOP;
        END IF;
        RETURN NEXT;
    END LOOP;
END $$
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
    run(TAKE)
