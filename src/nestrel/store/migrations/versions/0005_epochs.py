"""Epochs, and what was begun and has to be gone on with: profiles that are being told of, erasures by lease."""

from nestrel.store.epochs import new_id
from nestrel.store.migrations.naming import run

revision = "0005"
down_revision = "0004"
branch_labels = None
depends_on = None

# A row for each history, the newest last; `branch` is the position of the log up to which it shares the one before it.
# What it was recorded in tells whether it is still the present one: the cluster, the database, the timeline, and the
# table itself, as one that is loaded from a dump is another.
TABLES = """
CREATE TABLE nestrel.epochs (
    n           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    id          bigint NOT NULL UNIQUE,
    branch      bigint,
    system      bigint NOT NULL,
    database_id bigint NOT NULL,
    timeline    text NOT NULL,
    made_in     oid NOT NULL,
    began_at    timestamptz NOT NULL DEFAULT clock_timestamp()
);
INSERT INTO nestrel.epochs (id, system, database_id, timeline, made_in)
SELECT {first}, system_identifier, (SELECT oid FROM pg_database WHERE datname = current_database()),
       left(pg_walfile_name(pg_current_wal_insert_lsn()), 8), 'nestrel.epochs'::regclass FROM pg_control_system();

ALTER TABLE nestrel.conversations
    ADD epochs bigint[] NOT NULL DEFAULT '{{{first}}}',
    ADD begins bigint[] NOT NULL DEFAULT '{{0}}',
    ADD CONSTRAINT conversations_epoch CHECK (epochs[1] IS NOT NULL AND cardinality(epochs) = cardinality(begins));
ALTER TABLE nestrel.conversations ALTER epochs DROP DEFAULT, ALTER begins DROP DEFAULT;

CREATE TABLE nestrel.profile_news (user_id text PRIMARY KEY, after uuid NOT NULL);
ALTER TABLE nestrel.erasures ADD claimed_by text, ADD claimed_until timestamptz
"""


def upgrade() -> None:
    for statement in TABLES.format(first=new_id()).split(";\n"):
        if statement.strip():
            run(statement)
