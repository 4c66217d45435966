"""The journal, those who read it, and what applications leave in their own transactions."""

from sqlalchemy import (
    JSON,
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    Identity,
    Index,
    Integer,
    LargeBinary,
    Table,
    Text,
    UniqueConstraint,
    Uuid,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, OID

from nestrel.store.tables.base import NOW, Moment, Xid8, metadata

epochs = Table(
    "epochs",
    metadata,
    Column("n", BigInteger, Identity(always=True), primary_key=True),
    Column("id", BigInteger, nullable=False),
    Column("branch", BigInteger),
    Column("system", BigInteger, nullable=False),
    Column("database_id", BigInteger, nullable=False),
    Column("timeline", Text, nullable=False),
    Column("made_in", OID, nullable=False),
    Column("began_at", Moment, nullable=False, server_default=NOW),
    UniqueConstraint("id", name="epochs_id_key"),
)
"""A row for each history, the newest last. `branch` is the position of the log up to which it shares the one before
it. The rest is where it was recorded, which tells whether it is still the present one."""

journal = Table(
    "journal",
    metadata,
    Column("xid", Xid8, nullable=False, server_default=text("pg_current_xact_id()")),
    Column("at", Moment, nullable=False, server_default=NOW),
    Column("ids", ARRAY(Uuid), nullable=False),
    Column("revs", ARRAY(BigInteger), nullable=False),
    Index("journal_xid", "xid"),
    postgresql_with={
        "toast_tuple_target": "8160",
        "autovacuum_vacuum_scale_factor": "0",
        "autovacuum_vacuum_threshold": "20000",
    },
)
"""A row for each statement that moves conversations, with all of them in it, written by a trigger. What a row of the
largest batch takes stays in one page."""

journal_trimmed = Table(
    "journal_trimmed",
    metadata,
    Column("xid", Xid8, primary_key=True),
)
"""The newest transaction of which rows of the journal may have gone."""

consumers = Table(
    "consumers",
    metadata,
    Column("name", Text, primary_key=True),
    Column("wanted", Boolean, nullable=False, server_default=text("true")),
    Column("lease", BigInteger, nullable=False, server_default=text("0")),
    Column("holder", Text),
    Column("held_until", Moment, nullable=False, server_default=text("'-infinity'")),
    Column("cursor", Text),
    Column("kept_at", Moment, nullable=False, server_default=NOW),
)
"""A consumer stands at `cursor`, which is opaque here. Whoever holds it writes under the `lease` that it was given,
which grows with each that takes it: a holder that was away for too long writes nothing any more."""

webhooks = Table(
    "webhooks",
    metadata,
    Column("id", Uuid, primary_key=True),
    Column("url", Text, nullable=False),
    Column("type", Text, nullable=False),
    Column("conversation_id", Uuid),
    Column("secret", LargeBinary, nullable=False),
    Column("old_secret", LargeBinary),
    Column("old_secret_until", Moment),
    Column("state", Text, nullable=False, server_default=text("'active'")),
    Column("created_by", Text, nullable=False),
    Column("created_at", Moment, nullable=False, server_default=NOW),
    Column("attempt", Integer, nullable=False, server_default=text("0")),
    Column("failing_since", Moment),
    Column("next_at", Moment),
    Column("replay_from", Moment),
    Column("replay_after", Uuid),
    Column("replay_seq", BigInteger),
    Column("begun", Text),
    CheckConstraint("state IN ('active', 'paused', 'stopped')", name="webhooks_state_check"),
    CheckConstraint("type IN ('changes', 'notices')", name="webhooks_type_check"),
)
"""Addresses that are told what changes; each is a consumer."""

webhook_deliveries = Table(
    "webhook_deliveries",
    metadata,
    Column("webhook_id", Uuid, primary_key=True),
    Column("n", BigInteger, Identity(always=True), primary_key=True),
    Column("at", Moment, nullable=False),
    Column("attempt", Integer, nullable=False),
    Column("status", Integer),
    Column("ms", Integer, nullable=False),
    Column("error", Text),
    Column("next_at", Moment),
    postgresql_with={"autovacuum_vacuum_scale_factor": "0", "autovacuum_vacuum_threshold": "2000"},
)
"""What came of the last requests of a webhook."""

posts_waiting = Table(
    "posts_waiting",
    metadata,
    Column("ticket", BigInteger, Identity(always=True), primary_key=True),
    Column("conversation_id", Uuid, nullable=False),
    Column("author_id", Text, nullable=False),
    Column("key", Text, nullable=False),
    Column("body", Text, nullable=False),
    Column("format", Text, nullable=False),
    Column("attributes", JSON),
    Column("mentions", ARRAY(Text), nullable=False),
    Column("reply_to", BigInteger),
    Column("posted_as", Text, nullable=False),
    Column("waits_since", Moment, nullable=False, server_default=NOW),
    Index("posts_waiting_author", "author_id"),
    postgresql_with={
        "autovacuum_vacuum_scale_factor": "0",
        "autovacuum_vacuum_threshold": "2000",
        "autovacuum_vacuum_insert_scale_factor": "0",
        "autovacuum_vacuum_cost_delay": "0",
    },
)
"""Posts that applications left. Rows come and go by the thousand."""

acts_waiting = Table(
    "acts_waiting",
    metadata,
    Column(
        "ticket",
        BigInteger,
        primary_key=True,
        server_default=text("nextval('nestrel.posts_waiting_ticket_seq'::regclass)"),
    ),
    Column("act", Text, nullable=False),
    Column("conversation_id", Uuid),
    Column("name_key", Text),
    Column("user_id", Text),
    Column("detail", JSON, nullable=False),
    Column("posted_as", Text, nullable=False),
    Column("waits_since", Moment, nullable=False, server_default=NOW),
    CheckConstraint(
        "act IN ('make', 'put_member', 'remove_member', 'put_person', 'post')", name="acts_waiting_act_check"
    ),
    Index("acts_waiting_made", "name_key", postgresql_where=text("act = 'make'")),
    Index("acts_waiting_user", "user_id"),
    postgresql_with={
        "autovacuum_vacuum_scale_factor": "0",
        "autovacuum_vacuum_threshold": "2000",
        "autovacuum_vacuum_insert_scale_factor": "0",
        "autovacuum_vacuum_cost_delay": "0",
    },
)
"""Conversations, members and people that applications left; tickets are those of `posts_waiting`."""

refused_posts = Table(
    "refused_posts",
    metadata,
    Column("ticket", BigInteger, primary_key=True, autoincrement=False),
    Column("conversation_id", Uuid),
    Column("author", Text),
    Column("key", Text),
    Column("problem", JSON, nullable=False),
    Column("refused_at", Moment, nullable=False, server_default=NOW),
    Index("refused_posts_author", "author"),
    Index("refused_posts_old", "refused_at"),
)
"""What of it was refused, and why."""
