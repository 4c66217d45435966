"""Rules, what has expired and waits to be taken away, and the archive."""

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    Connection,
    Index,
    Integer,
    LargeBinary,
    Table,
    Text,
    Uuid,
    event,
    text,
)
from sqlalchemy.dialects.postgresql import INTERVAL

from nestrel.store.tables.base import NOW, Moment, metadata

service_rule = Table(
    "service_rule",
    metadata,
    Column("version", Integer, primary_key=True, autoincrement=False),
    Column("keep_last", BigInteger),
    Column("keep_for", Text),
    Column("keep_span", INTERVAL),
    Column("keep_bytes", BigInteger),
    Column("after_expiry", Text, nullable=False, server_default=text("'archive'")),
    Column("hold", Boolean, nullable=False, server_default=text("false")),
    Column("set_at", Moment, nullable=False, server_default=NOW),
)
"""The rule for all conversations, by version; the newest is in force."""

kind_rules = Table(
    "kind_rules",
    metadata,
    Column("kind", Text, primary_key=True),
    Column("version", Integer, primary_key=True),
    Column("keep_last", BigInteger),
    Column("keep_for", Text),
    Column("keep_span", INTERVAL),
    Column("keep_bytes", BigInteger),
    Column("after_expiry", Text, nullable=False),
    Column("hold", Boolean, nullable=False),
    Column("cleared", Boolean, nullable=False, server_default=text("false")),
    CheckConstraint("kind IN ('direct', 'group', 'bulletin')", name="kind_rules_kind_check"),
)
"""The rule of a kind of conversations, likewise."""

expiry_due = Table(
    "expiry_due",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("due_at", Moment, nullable=False),
    Index("expiry_due_at", "due_at"),
)
"""A bound from below on when the next message of a conversation expires."""

expired_backlog = Table(
    "expired_backlog",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("next_seq", BigInteger, nullable=False),
    Column("since", Moment, nullable=False, server_default=NOW),
    postgresql_with={"fillfactor": "70"},
)
"""Conversations with expired rows that are still to be taken away."""

expired_keys = Table(
    "expired_keys",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("key_hash", LargeBinary, primary_key=True),
    Column("seq", BigInteger, nullable=False),
)
"""Keys of messages that were taken away, for repeats of a post."""

expired_attachments = Table(
    "expired_attachments",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("attachment_id", Uuid, primary_key=True),
)
"""Attachments of messages that were discarded."""

discarded_runs = Table(
    "discarded_runs",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("first_seq", BigInteger, primary_key=True),
    Column("last_seq", BigInteger, nullable=False),
    Column("discarded_at", Moment, nullable=False, server_default=NOW),
)
"""Runs of messages that were discarded."""

archive_segments = Table(
    "archive_segments",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("segment", Integer, primary_key=True),
    Column("first_seq", BigInteger, nullable=False),
    Column("last_seq", BigInteger, nullable=False),
    Column("messages", Integer, nullable=False),
    Column("bytes", BigInteger, nullable=False),
    Column("sha256", LargeBinary, nullable=False),
    Column("archived_at", Moment, nullable=False, server_default=NOW),
    Column("content", LargeBinary, nullable=False),
    CheckConstraint("((last_seq - first_seq) + 1) = messages", name="archive_segments_whole"),
)
"""Compressed JSON Lines, kept out of line and as they are: PostgreSQL need not try to compress them."""


@event.listens_for(archive_segments, "after_create")
def _store_as_it_is(_table: Table, connection: Connection, **_: object) -> None:
    connection.execute(text(f"ALTER TABLE {archive_segments.fullname} ALTER content SET STORAGE EXTERNAL"))


archive_authors = Table(
    "archive_authors",
    metadata,
    Column("author_id", Text, primary_key=True),
    Column("conversation_id", Uuid, primary_key=True),
    Column("segment", Integer, primary_key=True),
    Column("messages", Integer, nullable=False),
    Index("archive_authors_of", "conversation_id"),
)
"""Whose messages a segment has."""
