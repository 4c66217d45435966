"""Conversations, who is in them, and who may come."""

from sqlalchemy import (
    BigInteger,
    Boolean,
    CheckConstraint,
    Column,
    ForeignKey,
    Index,
    Integer,
    LargeBinary,
    Table,
    Text,
    UniqueConstraint,
    Uuid,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY, INTERVAL

from nestrel.store.tables.base import NOW, CodePoints, Moment, Xid8, metadata

conversations = Table(
    "conversations",
    metadata,
    Column("id", Uuid, primary_key=True),
    Column("kind", Text, nullable=False),
    Column("visibility", Text, nullable=False),
    Column("name", Text),
    Column("name_key", Text),
    Column("title", Text, nullable=False),
    Column("attributes", Text),
    Column("direct_pair", Text),
    Column("created_by", Text, nullable=False),
    Column("created_at", Moment, nullable=False),
    Column("head", BigInteger, nullable=False, server_default=text("0")),
    Column("floor", BigInteger, nullable=False, server_default=text("1")),
    Column("rev", BigInteger, nullable=False),
    Column("own_rev", BigInteger, nullable=False),
    Column("message_count", BigInteger, nullable=False, server_default=text("0")),
    Column("member_count", Integer, nullable=False, server_default=text("0")),
    Column("last_at", Moment, nullable=False),
    Column("moved_xid", Xid8, nullable=False, server_default=text("pg_current_xact_id()")),
    Column("closed_at", Moment),
    Column("erased", Boolean, nullable=False, server_default=text("false")),
    Column("kept_bytes", BigInteger, nullable=False, server_default=text("0")),
    Column("swept", BigInteger, nullable=False, server_default=text("1")),
    Column("keep_last", BigInteger),
    Column("keep_for", Text),
    Column("keep_span", INTERVAL),
    Column("keep_bytes", BigInteger),
    Column("after_expiry", Text, nullable=False, server_default=text("'archive'")),
    Column("hold", Boolean, nullable=False, server_default=text("false")),
    Column("inherits", Integer, server_default=text("1")),
    Column("earlier_then", Text, nullable=False, server_default=text("'archive'")),
    Column("earlier_below", BigInteger, nullable=False, server_default=text("0")),
    Column("epochs", ARRAY(BigInteger), nullable=False),
    Column("begins", ARRAY(BigInteger), nullable=False),
    Column("guard", BigInteger, nullable=False, server_default=text("0")),
    Column("blocked", Boolean, nullable=False, server_default=text("false")),
    Column("post_interval", Integer),
    Column("is_default", Boolean, nullable=False, server_default=text("false")),
    Column("crowd", Boolean, nullable=False, server_default=text("false")),
    Column("name_look", Text),
    Column("anew_rev", BigInteger, nullable=False, server_default=text("0")),
    Column("anew_xid", Xid8),
    CheckConstraint("after_expiry IN ('archive', 'discard')", name="conversations_after_expiry_check"),
    CheckConstraint("(message_count >= 0) AND (message_count <= head)", name="conversations_counted"),
    CheckConstraint(
        "(epochs[1] IS NOT NULL) AND (cardinality(epochs) = cardinality(begins))", name="conversations_epoch"
    ),
    CheckConstraint("(floor >= 1) AND (head >= (floor - 1))", name="conversations_floor"),
    CheckConstraint("kind IN ('group', 'direct', 'bulletin')", name="conversations_kind_check"),
    CheckConstraint("swept <= floor", name="conversations_swept"),
    CheckConstraint("visibility IN ('open', 'closed')", name="conversations_visibility_check"),
    Index("conversations_name", "name_key", unique=True, postgresql_where=text("closed_at IS NULL")),
    Index("conversations_direct_pair", "direct_pair", unique=True, postgresql_where=text("closed_at IS NULL")),
    Index("conversations_open", "id", postgresql_where=text("(visibility = 'open') AND (closed_at IS NULL)")),
    Index("conversations_to_erase", "id", postgresql_where=text("(closed_at IS NOT NULL) AND (NOT erased)")),
    Index(
        "conversations_inherits",
        "inherits",
        "id",
        postgresql_where=text("(inherits IS NOT NULL) AND (closed_at IS NULL)"),
    ),
    Index("conversations_default", "id", postgresql_where=text("is_default")),
    Index(
        "conversations_look",
        "name_look",
        unique=True,
        postgresql_where=text("(name_look IS NOT NULL) AND (closed_at IS NULL)"),
    ),
    Index(
        "conversations_unlooked",
        "id",
        postgresql_where=text("(name IS NOT NULL) AND (name_look IS NULL) AND (closed_at IS NULL)"),
    ),
    Index(
        "conversations_kind_inherits",
        "kind",
        "inherits",
        "id",
        postgresql_where=text("(inherits IS NOT NULL) AND (closed_at IS NULL)"),
    ),
    postgresql_with={"fillfactor": "70"},
)
"""Every transaction that writes into a conversation updates its row. That stays a heap-only update, with no index
entry to write: no index covers a moving column, and the page keeps free space. `message_count` and `kept_bytes` are
of the messages from the floor up that are not tombstones. Below `swept` no row is left. `inherits` is the version of
the service's rule that the conversation has; null for a rule of its own. What expired below `earlier_below` did so
under a rule that said `earlier_then`. `guard` rises with each change that takes no `rev`. `blocked`: one of the two
of a direct conversation has blocked the other. `crowd`: there were once more members than change sets carry.
PostgreSQL looks at unique indexes in the order in which they were made: that a name is taken is said before that it
looks like another."""

members = Table(
    "members",
    metadata,
    Column("conversation_id", Uuid, ForeignKey("nestrel.conversations.id"), primary_key=True),
    Column("user_id", Text, primary_key=True),
    Column("role", Text, nullable=False),
    Column("joined_at", Moment, nullable=False),
    Column("left_at", Moment),
    Column("left_reason", Text),
    Column("read_seq", BigInteger, nullable=False, server_default=text("0")),
    Column("read_at", Moment),
    Column("rev", BigInteger, nullable=False),
    Column("moved_xid", Xid8, nullable=False, server_default=text("pg_current_xact_id()")),
    Column("joined_xid", Xid8, nullable=False, server_default=text("pg_current_xact_id()")),
    Column("hidden_head", BigInteger),
    Column("ranked", Boolean, nullable=False, server_default=text("false")),
    CheckConstraint("left_reason IN ('left', 'removed')", name="members_left_reason_check"),
    CheckConstraint("role IN ('owner', 'moderator', 'writer', 'reader')", name="members_role_check"),
    Index("members_of_user", "user_id", "conversation_id"),
    Index("members_rev", "conversation_id", "rev"),
    Index("members_joined", "joined_xid"),
    Index("members_ranked", "conversation_id", "rev", postgresql_where=text("ranked")),
    postgresql_with={"fillfactor": "80"},
)
"""`ranked` marks who is or was owner or moderator: of a crowd their rows alone are carried. `hidden_head` is the head
at which the member has hidden the conversation."""

conversation_words = Table(
    "conversation_words",
    metadata,
    Column("word", CodePoints, primary_key=True),
    Column("conversation_id", Uuid, primary_key=True),
    Column("n", Integer, nullable=False),
    Index("conversation_words_of", "conversation_id", "word"),
)
"""Folded words in the order of their code points, so that a prefix is a range; `n` is the place of a word in the
name."""

held_names = Table(
    "held_names",
    metadata,
    Column("user_id", Text, primary_key=True),
    Column("kind", Text, primary_key=True),
    Column("key", Text, primary_key=True),
    Column("name", Text, nullable=False),
    Column("given_up_at", Moment),
    CheckConstraint("kind IN ('name', 'id')", name="held_names_kind_check"),
    Index("held_names_key", "key"),
)
"""`key` is what names that look alike have in common. A name that was given up stays its last owner's for a time; a
person's id is theirs for good."""

made_keys = Table(
    "made_keys",
    metadata,
    Column("user_id", Text, primary_key=True),
    Column("key_hash", LargeBinary, primary_key=True),
    Column("fingerprint", LargeBinary, nullable=False),
    Column("conversation_id", Uuid, nullable=False),
    Column("made_at", Moment, nullable=False, server_default=NOW),
    Index("made_keys_old", "made_at"),
)
"""What was made under an `Idempotency-Key`."""

invitations = Table(
    "invitations",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("id", Uuid, primary_key=True),
    Column("token_hash", LargeBinary, nullable=False),
    Column("role", Text, nullable=False),
    Column("uses_left", Integer),
    Column("expires_at", Moment),
    Column("created_by", Text, nullable=False),
    Column("by_service", Boolean, nullable=False),
    Column("created_at", Moment, nullable=False, server_default=NOW),
    UniqueConstraint("token_hash", name="invitations_token"),
    Index("invitations_maker", "created_by"),
)
"""An invitation that is used up or past its time stays for a while, to be told from one that never was."""

joining = Table(
    "joining",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("after", Text, nullable=False, server_default=text("''")),
)
"""Who is being added to the conversations of everyone, and how far that is."""

kept_out = Table(
    "kept_out",
    metadata,
    Column("conversation_id", Uuid, primary_key=True),
    Column("user_id", Text, primary_key=True),
    Column("until", Moment),
    Column("reason", Text),
    Column("kept_out_by", Text, nullable=False),
    Column("kept_out_at", Moment, nullable=False, server_default=NOW),
    Index("kept_out_user", "user_id"),
)
"""Who is kept out of a conversation, until when, and by whom."""

blocks = Table(
    "blocks",
    metadata,
    Column("user_id", Text, primary_key=True),
    Column("blocked_id", Text, primary_key=True),
    Column("blocked_at", Moment, nullable=False, server_default=NOW),
    Index("blocks_blocked", "blocked_id"),
)
"""Who has blocked whom."""
