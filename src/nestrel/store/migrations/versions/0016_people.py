"""Suspension and sign-out, reports, and what each member has used of a day's quotas."""

from nestrel.store.migrations.naming import run

revision = "0016"
down_revision = "0015"
branch_labels = None
depends_on = None

# `barred` has whoever was ever suspended or signed out; `changed_at` is what processes ask by. A report carries what
# was reported as it stood then, for a time that its author does not decide.
STATEMENTS = """
CREATE TABLE nestrel.barred (
    user_id         text        NOT NULL CONSTRAINT barred_pkey PRIMARY KEY,
    suspended       boolean     NOT NULL DEFAULT false,
    suspended_until timestamptz,
    reason          text,
    suspended_by    text,
    suspended_at    timestamptz,
    not_before      timestamptz,
    changed_at      timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE INDEX barred_changed ON nestrel.barred (changed_at);
CREATE TABLE nestrel.reports (
    report_id       uuid        NOT NULL CONSTRAINT reports_pkey PRIMARY KEY,
    conversation_id uuid        NOT NULL,
    seq             bigint      NOT NULL,
    author_id       text        NOT NULL,
    reason          text        NOT NULL,
    reported_by     text        NOT NULL,
    reported_at     timestamptz NOT NULL DEFAULT clock_timestamp(),
    state           text        NOT NULL DEFAULT 'open'
                    CONSTRAINT reports_state_check CHECK (state IN ('open', 'done')),
    settled_by      text,
    settled_at      timestamptz,
    message         text
);
CREATE INDEX reports_conversation ON nestrel.reports (conversation_id, report_id);
CREATE UNIQUE INDEX reports_once ON nestrel.reports (conversation_id, seq, reported_by);
CREATE INDEX reports_author ON nestrel.reports (author_id);
CREATE INDEX reports_by ON nestrel.reports (reported_by);
CREATE INDEX reports_kept ON nestrel.reports (reported_at) WHERE message IS NOT NULL;
CREATE TABLE nestrel.used_today (
    user_id       text    NOT NULL,
    day           date    NOT NULL,
    conversations integer NOT NULL DEFAULT 0,
    additions     integer NOT NULL DEFAULT 0,
    CONSTRAINT used_today_pkey PRIMARY KEY (day, user_id)
)
"""


def upgrade() -> None:
    for statement in STATEMENTS.split(";\n"):
        run(statement)
