"""The objects of the wire, as Pydantic models: what the service documents and the client library returns.

The service itself writes JSON straight from rows (`nestrel.store.rows`); a test holds the two together.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from nestrel.core.notices import Notify
from nestrel.core.problems import Trouble
from nestrel.core.roles import Kind, Role, Visibility


class WireObject(BaseModel):
    """Fields that a newer service adds are ignored by an older client."""

    # Built when first used: a command needs few of them.
    model_config = ConfigDict(extra="ignore", frozen=True, defer_build=True)


class Reaction(WireObject):
    symbol: str
    count: int
    by: list[str] = Field(description="At most 100 user ids.")


class Attachment(WireObject):
    """A file that belongs to messages of one conversation. Its kind is what its content says; `width` and `height` are
    of a picture, as it is shown; `sha256` is in hexadecimal."""

    attachment_id: str
    name: str
    media_type: str
    bytes: int
    sha256: str
    width: int | None
    height: int | None
    created_at: datetime


class AttachmentLink(WireObject):
    """Where an attachment is to be had without a token, until `expires_at`."""

    url: str
    expires_at: datetime


class Message(WireObject):
    """One entry, addressed by (conversation, seq). With `removed_at` set it is a tombstone with an empty body."""

    conversation_id: str
    seq: int
    rev: int
    author_id: str
    body: str
    format: Literal["plain", "markdown"]
    attributes: dict[str, Any]
    reply_to: int | None
    created_at: datetime
    edited_at: datetime | None
    edits: int
    removed_at: datetime | None
    removed_by: str | None
    reactions: list[Reaction]
    attachments: list[Attachment] = Field(description="At most 10.")
    mentions: list[str] = Field(default=[], description="User ids, at most 50.")


class Invitation(WireObject):
    """What lets who has its token join. The `token` is in the answer that made it, and nowhere else."""

    invitation_id: str
    token: str | None = None
    role: Role
    uses_left: int | None
    expires_at: datetime | None
    created_by: str
    created_at: datetime


class Invited(WireObject):
    """What an invitation leads to."""

    conversation_id: str
    title: str
    name: str | None
    kind: Kind
    members: int
    role: Role


class Member(WireObject):
    """A user in a conversation; with `left_at` set, one who is no longer."""

    user_id: str
    role: Role
    joined_at: datetime
    left_at: datetime | None
    read_seq: int
    read_at: datetime | None
    rev: int


class Profile(WireObject):
    user_id: str
    display_name: str
    picture: str | None
    rev: int


class Unread(WireObject):
    """What somebody has not read in all of their conversations, but hidden ones; each at most 10,000. `messages` and
    `mentions` are those of others that are not removed, in so many `conversations`."""

    conversations: int
    messages: int
    mentions: int


class Me(Profile):
    """One's own profile, with what one has not read."""

    unread: Unread


class Conversation(WireObject):
    """`my_role`, `partner`, `unread` and `unread_mentions` are null where the object is not made for one viewer, as in
    change sets."""

    id: str
    name: str | None
    title: str
    kind: Kind
    visibility: Visibility
    attributes: dict[str, Any]
    created_by: str
    created_at: datetime
    head: int
    floor: int
    rev: int
    message_count: int
    last_message: Message | None
    my_role: Role | None
    partner: str | None = Field(default=None, description="of a direct conversation, the other of its two members")
    unread: int | None
    unread_mentions: int | None = Field(
        default=None, description="Unread messages of others that name the viewer; stops at 1,000."
    )
    members: int
    post_interval: int | None = Field(default=None, description="seconds in which a writer posts once")
    default: bool = Field(default=False, description="whether everyone is a member from their first sign-in on")
    me: Member | None = Field(default=None, description="the viewer's own member row; of one conversation alone")
    my_hidden: bool | None = Field(
        default=None, description="whether the viewer's list leaves it out until its next message"
    )
    my_notify: Notify | None = Field(default=None, description="what the viewer is told of while they are not here")
    my_notify_after: datetime | None = Field(default=None, description="of nothing that was posted before then")


class ChangeSet(WireObject):
    """Everything that changed in one conversation between two change cursors, as the current state of the rows."""

    conversation_id: str
    base: str | None
    cursor: str
    head: int
    floor: int
    reset: bool
    more: bool
    conversation: Conversation | None
    messages: list[Message]
    members: list[Member]
    profiles: dict[str, Profile]


class ResyncAnswer(WireObject):
    """A change set for each conversation that moved. `joined` have come and are in `items` from the newest page on;
    `gone` are one's own no more. With `reset` this is part of a sync from nothing: what is in no `joined` of its parts
    is not one's own. The first part `begins` a sync, also one that begins again. `rewound`: the database was restored
    or failed over
    since the cursor was made; of each conversation of which anything was taken in after it, the newest page is to be
    fetched anew. `more`: ask again with `cursor`."""

    items: list[ChangeSet]
    joined: list[str]
    gone: list[str]
    cursor: str
    more: bool
    reset: bool
    begins: bool
    rewound: bool


class HistoryPage(WireObject):
    """A page of messages in the order asked for; `older` and `newer` are null at the ends."""

    items: list[Message]
    older: str | None
    newer: str | None
    profiles: dict[str, Profile]
    head: int
    floor: int
    change_cursor: str


class ConversationPage(WireObject):
    """`cursor` is the all cursor from before the list was read; null but for `scope=mine`."""

    items: list[Conversation]
    next: str | None
    cursor: str | None
    profiles: dict[str, Profile]


class MemberPage(WireObject):
    items: list[Member]
    next: str | None
    profiles: dict[str, Profile]


class InvitationPage(WireObject):
    items: list[Invitation]
    next: str | None
    profiles: dict[str, Profile]


class PeoplePage(WireObject):
    """Whom one can see. A page may be short while there is a `next`."""

    items: list[Profile]
    next: str | None


class Called(WireObject):
    """What a conversation is called."""

    name: str | None
    title: str
    kind: Kind


class SaidPage(WireObject):
    """What one person has said, over conversations; `conversations` has what those of the page are called."""

    items: list[Message]
    older: str | None
    newer: str | None
    profiles: dict[str, Profile]
    conversations: dict[str, Called]


class Hit(WireObject):
    """A message that answers; `marks` are the half-open ranges of code points of its body that were looked for."""

    message: Message
    marks: list[tuple[int, int]]


class SearchPage(WireObject):
    """Hits, newest first. A page may be short, or empty, while there is a `next`."""

    items: list[Hit]
    next: str | None
    profiles: dict[str, Profile]
    conversations: dict[str, Called]


class EarlierBody(WireObject):
    """A body that an edit replaced: written at `created_at`, replaced at `edited_at` by `edited_by`."""

    n: int
    body: str
    format: Literal["plain", "markdown"]
    created_at: datetime
    edited_at: datetime
    edited_by: str


class EditPage(WireObject):
    """Earlier bodies, oldest first."""

    items: list[EarlierBody]
    next: str | None
    profiles: dict[str, Profile]


class Reacted(WireObject):
    symbol: str
    user_id: str
    reacted_at: datetime


class ReactionPage(WireObject):
    """Reactions by symbol and user id."""

    items: list[Reacted]
    next: str | None
    profiles: dict[str, Profile]


class Reader(WireObject):
    """A member whose receipt has reached a message; `read_at` is when it last moved."""

    user_id: str
    read_seq: int
    read_at: datetime | None


class ReaderPage(WireObject):
    items: list[Reader]
    next: str | None
    profiles: dict[str, Profile]


class Receipt(WireObject):
    """How far one has read, and how many messages of others stand unread above it."""

    read_seq: int
    unread: int


class MessageBatch(WireObject):
    items: list[Message]


class ProblemDocument(WireObject):
    """RFC 9457. What stands below `reason` comes with one type alone."""

    model_config = ConfigDict(extra="allow")

    type: str
    title: str
    status: int
    detail: str
    instance: str | None = None
    errors: list[dict[str, str]] | None = None
    retry_after: int | None = None
    reason: Trouble | None = Field(default=None, description="With `store-unavailable`: why.")
    message: Message | None = Field(default=None, description="With `stale-edit`: the message as it stands.")
    preview: dict[str, Any] | None = Field(
        default=None,
        description="With `confirm-needed`: what would go, as `POST …/retention/preview` or `POST /erasures/preview` "
        "answers it.",
    )
    quota: str | None = Field(default=None, description="With `over-quota`: what there is a limit of.")
    limit: int | None = Field(default=None, description="With `over-quota`: how many.")
