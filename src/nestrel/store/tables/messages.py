"""Messages and what hangs on them."""

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    Connection,
    Identity,
    Index,
    Integer,
    LargeBinary,
    Table,
    Text,
    Uuid,
    event,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, TSVECTOR

from nestrel.store.tables.base import CodePoints, Moment, Xid8, metadata

messages = Table(
    "messages",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("seq", BigInteger, primary_key=True),
    Column("rev", BigInteger, nullable=False),
    Column("author_n", BigInteger, nullable=False),
    Column("created_at", Moment, nullable=False),
    Column("edited_at", Moment),
    Column("removed_at", Moment),
    Column("moved_xid", Xid8, nullable=False, server_default=text("pg_current_xact_id()")),
    Column("reply_to", BigInteger),
    Column("edits", Integer, nullable=False, server_default=text("0")),
    Column("changed", Boolean, nullable=False, server_default=text("false")),
    Column("author_id", Text, nullable=False),
    Column("removed_by", Text),
    Column("format", Text, nullable=False),
    Column("key_hash", LargeBinary),
    Column("fingerprint", LargeBinary),
    Column("attributes", Text),
    Column("body", Text, nullable=False),
    Column("mentions", ARRAY(Text)),
    Column("attachments", Text),
    Column("attached_bytes", BigInteger),
    CheckConstraint("format IN ('plain', 'markdown')", name="messages_format_check"),
    Index("messages_key", "conversation_id", "key_hash", unique=True, postgresql_where=text("key_hash IS NOT NULL")),
    Index("messages_author", "conversation_id", "author_id", "seq"),
    Index("messages_changed", "conversation_id", "rev", postgresql_where=text("changed")),
    Index(
        "messages_removed",
        "conversation_id",
        "seq",
        postgresql_include=["author_id"],
        postgresql_where=text("removed_at IS NOT NULL"),
    ),
)
"""Attributes are compact JSON as text: what was sent comes back to the byte, and no driver parses a row to serve it.
A message carries what is shown of its mentions and attachments, so that a page needs no join. `key_hash` is a hash
over author and key. New rows are found by `seq`; only rows that changed after they were made need a way by `rev`."""


@event.listens_for(messages, "after_create")
def _look_up_by_author(_table: Table, connection: Connection, **_: object) -> None:
    """Few authors fill one conversation, but a look-up by author must never be planned as a walk through all
    messages."""
    connection.execute(text(f"ALTER TABLE {messages.fullname} ALTER author_id SET (n_distinct = -0.1)"))


message_edits = Table(
    "message_edits",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("seq", BigInteger, primary_key=True),
    Column("n", Integer, primary_key=True),
    Column("body", Text, nullable=False),
    Column("format", Text, nullable=False),
    Column("created_at", Moment, nullable=False),
    Column("edited_at", Moment, nullable=False),
    Column("editor_id", Text, nullable=False),
)
"""Earlier bodies of a message."""

reactions = Table(
    "reactions",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("seq", BigInteger, primary_key=True),
    Column("symbol", Text, primary_key=True),
    Column("user_id", CodePoints, primary_key=True),
    Column("created_at", Moment, nullable=False),
)
"""Who reacted, in the order of code points."""

reaction_counts = Table(
    "reaction_counts",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("seq", BigInteger, primary_key=True),
    Column("symbol", Text, primary_key=True),
    Column("count", BigInteger, nullable=False),
    Column("since", BigInteger, nullable=False),
    Column("rev", BigInteger, nullable=False),
    Column("moved_xid", Xid8, nullable=False, server_default=text("pg_current_xact_id()")),
    CheckConstraint("count >= 0", name="reaction_counts_count_check"),
    Index("reaction_counts_rev", "conversation_id", "rev"),
    postgresql_with={"fillfactor": "80"},
)
"""A count is kept beside its rows and written in the same transaction. It carries the `rev` of the change, so that a
reaction leaves the message's own row alone; a count of 0 stays, for whoever was away. `since` is the `rev` at which a
symbol came, for a steady order."""

mentions = Table(
    "mentions",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("user_id", Text, primary_key=True),
    Column("seq", BigInteger, primary_key=True),
    Column("moved_xid", Xid8, server_default=text("pg_current_xact_id()")),
    Index("mentions_seq", "conversation_id", "seq"),
)
"""A row for each person whom a message names, to be counted above their receipt."""

search_blocks = Table(
    "search_blocks",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("block", BigInteger, primary_key=True),
    Column("part", BigInteger, Identity(always=False), primary_key=True),
    Column("first_at", Moment, nullable=False),
    Column("last_at", Moment, nullable=False),
    Column("words", TSVECTOR, nullable=False),
    Column("stale_since", Moment),
    Index("search_blocks_words", "words", postgresql_using="gin"),
    Index("search_blocks_stale", "stale_since", postgresql_where=text("stale_since IS NOT NULL")),
)
"""Block n is one document of the messages from 256 n + 1 to 256 n + 256: its words are theirs, there may be some too
many and never one too few. It comes in parts. From `stale_since` on it is to be made anew."""

search_places = Table(
    "search_places",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("rev", BigInteger, nullable=False),
    Column("head", BigInteger, nullable=False),
    Column("floor", BigInteger, nullable=False),
)
"""How far a conversation is in the blocks: up to `head`, as it was at `rev` or later."""
