"""People: profiles, what keeps them out, what they want to be told, and what was done to them."""

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    Date,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    PrimaryKeyConstraint,
    Table,
    Text,
    UniqueConstraint,
    Uuid,
    text,
)

from nestrel.store.tables.base import NOW, CodePoints, Moment, metadata

profiles = Table(
    "profiles",
    metadata,
    Column("user_id", Text, primary_key=True),
    Column("display_name", Text, nullable=False),
    Column("picture", Text),
    Column("rev", BigInteger, nullable=False),
    Column("claimed_at", Moment),
)
"""A profile for each person who was ever seen."""

person_words = Table(
    "person_words",
    metadata,
    Column("word", CodePoints, primary_key=True),
    Column("user_id", Text, primary_key=True),
    Column("n", Integer, nullable=False),
    Index("person_words_of", "user_id", "word"),
)
"""Folded words of names, as `conversation_words`."""

profile_news = Table(
    "profile_news",
    metadata,
    Column("user_id", Text, primary_key=True),
    Column("after", Uuid, nullable=False),
)
"""Changed profiles that conversations are still being told of."""

barred = Table(
    "barred",
    metadata,
    Column("user_id", Text, primary_key=True),
    Column("suspended", Boolean, nullable=False, server_default=text("false")),
    Column("suspended_until", Moment),
    Column("reason", Text),
    Column("suspended_by", Text),
    Column("suspended_at", Moment),
    Column("not_before", Moment),
    Column("changed_at", Moment, nullable=False, server_default=NOW),
    Index("barred_changed", "changed_at"),
)
"""Whoever was ever suspended or signed out; processes ask by `changed_at`."""

ended_sessions = Table(
    "ended_sessions",
    metadata,
    Column("id", LargeBinary, primary_key=True),
    Column("expires_at", Moment, nullable=False),
    Column("ended_at", Moment, nullable=False, server_default=NOW),
    Index("ended_sessions_at", "ended_at"),
)
"""Browser sessions that were ended before their time."""

erased_identities = Table(
    "erased_identities",
    metadata,
    Column("erasure_id", Uuid, primary_key=True),
    Column("digest", LargeBinary),
    Column("changed_at", Moment, nullable=False, server_default=NOW),
    UniqueConstraint("digest", name="erased_identities_digest"),
    Index("erased_identities_changed", "changed_at"),
)
"""Hashes of ids that are nobody's any more."""

erasures = Table(
    "erasures",
    metadata,
    Column("id", Uuid, primary_key=True),
    Column("user_id", Text, nullable=False),
    Column("asked_by", Text, nullable=False),
    Column("asked_at", Moment, nullable=False),
    Column("finished_at", Moment),
    Column("at_id", Uuid, nullable=False, server_default=text("'00000000-0000-0000-0000-000000000000'")),
    Column("messages", BigInteger, nullable=False, server_default=text("0")),
    Column("archived", BigInteger, nullable=False, server_default=text("0")),
    Column("conversations", Integer, nullable=False, server_default=text("0")),
    Column("claimed_by", Text),
    Column("claimed_until", Moment),
    Column("identity", Boolean, nullable=False, server_default=text("false")),
    Column("shown_as", Text),
    Column("renaming", Uuid),
    CheckConstraint(
        "(identity = (shown_as IS NOT NULL)) AND (shown_as ~ '^erased-[a-z]{16}$')", name="erasures_shown_as"
    ),
    Index("erasures_open", "id", postgresql_where=text("finished_at IS NULL")),
)
"""Erasures, done and under way; one is gone on with by whoever takes its lease."""

reports = Table(
    "reports",
    metadata,
    Column("report_id", Uuid, primary_key=True),
    Column("conversation_id", Uuid, nullable=False),
    Column("seq", BigInteger, nullable=False),
    Column("author_id", Text, nullable=False),
    Column("reason", Text, nullable=False),
    Column("reported_by", Text, nullable=False),
    Column("reported_at", Moment, nullable=False, server_default=NOW),
    Column("state", Text, nullable=False, server_default=text("'open'")),
    Column("settled_by", Text),
    Column("settled_at", Moment),
    Column("message", Text),
    CheckConstraint("state IN ('open', 'done')", name="reports_state_check"),
    Index("reports_conversation", "conversation_id", "report_id"),
    Index("reports_once", "conversation_id", "seq", "reported_by", unique=True),
    Index("reports_author", "author_id"),
    Index("reports_by", "reported_by"),
    Index("reports_kept", "reported_at", postgresql_where=text("message IS NOT NULL")),
)
"""What was reported, as it stood then, for a time that its author does not decide."""

notice_preferences = Table(
    "notice_preferences",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("user_id", Text, primary_key=True),
    Column("notify", Text),
    Column("notify_after", Moment),
    CheckConstraint("notify IN ('all', 'mentions', 'none')", name="notice_preferences_notify_check"),
    Index("notice_preferences_all", "conversation_id", "user_id", postgresql_where=text("notify = 'all'")),
    Index("notice_preferences_user", "user_id"),
)
"""A preference has no `rev` and is in no member's row: it is nobody else's business."""

push_subscriptions = Table(
    "push_subscriptions",
    metadata,
    Column("id", Uuid, primary_key=True),
    Column("user_id", Text, nullable=False),
    Column("endpoint", Text, nullable=False),
    Column("p256dh", LargeBinary, nullable=False),
    Column("auth", LargeBinary, nullable=False),
    Column("expires_at", Moment),
    Column("session", LargeBinary),
    Column("created_at", Moment, nullable=False, server_default=NOW),
    UniqueConstraint("endpoint", name="push_subscriptions_endpoint"),
    Index("push_subscriptions_user", "user_id", "id"),
    Index("push_subscriptions_session", "session", postgresql_where=text("session IS NOT NULL")),
)
"""The devices of a person."""

push_again = Table(
    "push_again",
    metadata,
    Column(
        "subscription_id",
        Uuid,
        ForeignKey("nestrel.push_subscriptions.id", onupdate="CASCADE", ondelete="CASCADE"),
        primary_key=True,
    ),
    Column("conversation_id", Uuid, primary_key=True),
    Column("seq", BigInteger, primary_key=True),
    Column("attempt", Integer, nullable=False),
    Column("next_at", Moment, nullable=False),
    Index("push_again_next", "next_at"),
)
"""What a device is to be told once more."""

uploaded = Table(
    "uploaded",
    metadata,
    Column("day", Date, primary_key=True),
    Column("user_id", Text, primary_key=True),
    Column("bytes", BigInteger, nullable=False),
)
"""What a person has uploaded, by day."""

used_today = Table(
    "used_today",
    metadata,
    Column("user_id", Text),
    Column("day", Date),
    Column("conversations", Integer, nullable=False, server_default=text("0")),
    Column("additions", Integer, nullable=False, server_default=text("0")),
    PrimaryKeyConstraint("day", "user_id"),
)
"""What a person has used of a day's quotas."""

audit = Table(
    "audit",
    metadata,
    Column("audit_id", Uuid, primary_key=True),
    Column("at", Moment, primary_key=True, server_default=NOW),
    Column("actor", Text, nullable=False),
    Column("act", Text, nullable=False),
    Column("conversation_id", Uuid),
    Column("user_id", Text),
    Column("seq", BigInteger),
    Column("before", Text),
    Column("after", Text),
    Column("request_id", Text, nullable=False),
    Column("times", BigInteger),
    Column("hourly", Boolean),
    Index("audit_actor", "actor", "audit_id"),
    Index("audit_conversation", "conversation_id", "audit_id"),
    Index(
        "audit_hourly", "at", "actor", "act", "conversation_id", "user_id", unique=True, postgresql_where=text("hourly")
    ),
    postgresql_partition_by="RANGE (at)",
)
"""By month, and nothing in it is ever changed: a month goes with its table, by the owner of the schema alone."""

audit_reasons = Table(
    "audit_reasons",
    metadata,
    Column("audit_id", Uuid, primary_key=True),
    Column("user_id", Text),
    Column("reason", Text, nullable=False),
    Index("audit_reasons_user", "user_id"),
)
"""Reasons are people's own words and may have to be erased, so they have a table of their own."""
