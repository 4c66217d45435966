"""Attachments and the objects that hold their bytes."""

from sqlalchemy import BigInteger, Boolean, Column, Index, Integer, LargeBinary, Table, Text, Uuid, text

from nestrel.store.tables.base import NOW, Moment, metadata

objects = Table(
    "objects",
    metadata,
    Column("id", Uuid, primary_key=True),
    Column("conversation_id", Uuid, nullable=False),
    Column("sha256", LargeBinary),
    Column("doomed_at", Moment),
    Column("taken", Boolean, nullable=False, server_default=text("false")),
    Index("objects_same", "conversation_id", "sha256", unique=True, postgresql_where=text("doomed_at IS NULL")),
    Index("objects_doomed", "doomed_at", postgresql_where=text("doomed_at IS NOT NULL")),
)
"""An object holds bytes under a random name that is used once; equal bytes of one conversation share one. From
`doomed_at` on the collector may take it (`taken`): an object begins so, before its first byte is written, so that
whatever a killed process leaves is found."""

attachments = Table(
    "attachments",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("id", Uuid, primary_key=True),
    Column("object_id", Uuid, nullable=False),
    Column("uploader_id", Text, nullable=False),
    Column("name", Text, nullable=False),
    Column("media_type", Text, nullable=False),
    Column("bytes", BigInteger, nullable=False),
    Column("sha256", LargeBinary, nullable=False),
    Column("width", Integer),
    Column("height", Integer),
    Column("still", Boolean, nullable=False),
    Column("created_at", Moment, nullable=False, server_default=NOW),
    Column("unused_since", Moment, server_default=NOW),
    Index("attachments_same", "conversation_id", "sha256", "uploader_id"),
    Index("attachments_object", "object_id"),
    Index("attachments_unused", "uploader_id", postgresql_where=text("unused_since IS NOT NULL")),
    Index("attachments_unused_since", "unused_since", postgresql_where=text("unused_since IS NOT NULL")),
)
"""`unused_since`: no message bears the attachment, and it may still be posted."""

attached = Table(
    "attached",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("seq", BigInteger, primary_key=True),
    Column("attachment_id", Uuid, primary_key=True),
    Index("attached_of", "conversation_id", "attachment_id", "seq"),
)
"""Which message bears an attachment; rows stay when messages are archived, and go when they are discarded."""

previews = Table(
    "previews",
    metadata,
    Column("object_id", Uuid, primary_key=True),
    Column("width", Integer, primary_key=True),
    Column("preview_id", Uuid, nullable=False),
)
"""Smaller pictures of a picture."""

loosened = Table(
    "loosened",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("attachment_id", Uuid, primary_key=True),
    Column("expired", Boolean, nullable=False, server_default=text("false")),
)
"""Attachments whose message was removed."""
