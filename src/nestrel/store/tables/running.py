"""The processes that serve, what they share, and what was used."""

from sqlalchemy import BigInteger, Boolean, Column, Index, Integer, LargeBinary, Table, Text, Uuid, text
from sqlalchemy.dialects.postgresql import ARRAY

from nestrel.store.tables.base import NOW, Moment, metadata

processes = Table(
    "processes",
    metadata,
    Column("node", Text, primary_key=True),
    Column("beat_at", Moment, nullable=False, server_default=NOW),
    postgresql_with={"fillfactor": "50"},
    prefixes=["UNLOGGED"],
)
"""Of passing worth, as all tables here that are not logged: empty after a crash of the database."""

connections = Table(
    "connections",
    metadata,
    Column("connection_id", Text, primary_key=True),
    Column("user_id", Text, nullable=False),
    Column("node", Text, nullable=False),
    Column("since", Moment, nullable=False),
    Column("kind", Text, nullable=False),
    Column("follows", Integer, nullable=False),
    Column("behind", Integer, nullable=False),
    Column("ended", Boolean, nullable=False, server_default=text("false")),
    Index("connections_user", "user_id"),
    Index("connections_node", "node", postgresql_where=text("ended")),
    postgresql_with={"fillfactor": "80"},
    prefixes=["UNLOGGED"],
)
"""The connections of all processes."""

rates = Table(
    "rates",
    metadata,
    Column("policy", Text, primary_key=True),
    Column("key", Text, primary_key=True),
    Column("at", BigInteger, nullable=False),
    Column("slots", ARRAY(Integer), nullable=False),
    postgresql_with={"fillfactor": "50"},
    prefixes=["UNLOGGED"],
)
"""Counts of commands by person, as rings of sixty seconds; `at` is the newest of them."""

rate_counts = Table(
    "rate_counts",
    metadata,
    Column("policy", Text, primary_key=True),
    Column("key", Text, primary_key=True),
    Column("at", BigInteger, nullable=False),
    Column("slots", ARRAY(Integer), nullable=False),
    postgresql_with={"fillfactor": "50"},
    prefixes=["UNLOGGED"],
)
"""Counts of commands by conversation, likewise."""

locks = Table(
    "locks",
    metadata,
    Column("name", Text, primary_key=True),
)
"""A row is locked by who may write to its table; an advisory lock is anybody's who may connect."""

service_secrets = Table(
    "service_secrets",
    metadata,
    Column("name", Text, primary_key=True),
    Column("value", LargeBinary, nullable=False),
)
"""Keys that all processes have, and a restored copy too."""

asked = Table(
    "asked",
    metadata,
    Column("user_id", Text, primary_key=True),
    Column("digest", Text, primary_key=True),
    Column("text", Text, nullable=False),
    Column("at", Moment, nullable=False, server_default=NOW),
    Index("asked_at", "at"),
)
"""Long questions that have more pages."""

usage_hours = Table(
    "usage_hours",
    metadata,
    Column("hour", Moment, primary_key=True),
    Column("connections_peak", Integer, nullable=False, server_default=text("0")),
    Column("stored_bytes", BigInteger),
)
"""What was used in an hour. A process adds what it has counted every few seconds."""

usage_people = Table(
    "usage_people",
    metadata,
    Column("hour", Moment, primary_key=True),
    Column("user_id", Text, primary_key=True),
    Column("deliveries", BigInteger, nullable=False),
    Column("connections_peak", Integer, nullable=False),
    Index("usage_people_user", "user_id", "hour"),
    postgresql_with={"fillfactor": "80"},
)
"""The same by person."""

usage_places = Table(
    "usage_places",
    metadata,
    Column("hour", Moment, primary_key=True),
    Column("conversation_id", Uuid, primary_key=True),
    Column("deliveries", BigInteger, nullable=False),
    Column("stored_bytes", BigInteger),
    Column("connections_peak", Integer, nullable=False, server_default=text("0")),
    Index("usage_places_conversation", "conversation_id", "hour"),
    postgresql_with={"fillfactor": "80"},
)
"""The same by conversation."""

usage_commands = Table(
    "usage_commands",
    metadata,
    Column("hour", Moment, primary_key=True),
    Column("conversation_id", Uuid, primary_key=True),
    Column("user_id", Text, primary_key=True),
    Column("posts", BigInteger, nullable=False),
    Column("edits", BigInteger, nullable=False),
    Column("removals", BigInteger, nullable=False),
    Column("reactions", BigInteger, nullable=False),
    Column("receipts", BigInteger, nullable=False),
    Index("usage_commands_conversation", "conversation_id", "hour"),
    Index("usage_commands_user", "user_id", "hour"),
    postgresql_with={"fillfactor": "80"},
)
"""The same by command, person and conversation."""

usage_told = Table(
    "usage_told",
    metadata,
    Column("node", Text, primary_key=True),
    Column("n", BigInteger, nullable=False),
    Column("told_at", Moment, nullable=False, server_default=NOW),
)
"""The number of each process's last addition, so that none is made twice."""

usage_samples = Table(
    "usage_samples",
    metadata,
    Column("slot", BigInteger, primary_key=True),
    Column("node", Text, primary_key=True),
    Column("n", Integer, nullable=False),
    prefixes=["UNLOGGED"],
)
"""Connections of each process, as last told."""

usage_follows = Table(
    "usage_follows",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("node", Text, primary_key=True),
    Column("n", Integer, nullable=False),
    Index("usage_follows_node", "node"),
    postgresql_with={"fillfactor": "80"},
    prefixes=["UNLOGGED"],
)
"""How many connections follow a conversation now, by process."""

usage_follow_peaks = Table(
    "usage_follow_peaks",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("hour", Moment, nullable=False),
    Column("n", Integer, nullable=False),
    postgresql_with={"fillfactor": "80"},
    prefixes=["UNLOGGED"],
)
"""The most of them in the hour that was last looked at."""
