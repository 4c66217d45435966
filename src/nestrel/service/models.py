"""The models of requests and frames."""

from __future__ import annotations

from typing import Annotated, Any, Literal, Self
from uuid import UUID

from pydantic import Field, StrictBool, StrictInt, ValidationError, model_validator
from pydantic_core import InitErrorDetails, PydanticCustomError

from nestrel.core import limits
from nestrel.core.markdown import check_markdown
from nestrel.core.notices import Notify
from nestrel.core.roles import Kind, Role, Visibility
from nestrel.service.fields import (
    Attached,
    Attributes,
    Cursor,
    DisplayName,
    Key,
    Limit,
    Mentions,
    Name,
    Picture,
    PostedBody,
    Request,
    Seq,
    Symbol,
    Time,
    Title,
    UserId,
    Wanted,
)
from nestrel.service.retention_models import WantedRule

_EMPTY = InitErrorDetails(type=PydanticCustomError("body", "must not be empty or blank"), loc=("body",), input="")


def _check_format(body: str, format_: str | None) -> None:
    """Whether a body can be shown as what it says it is; of an edit that leaves the format as it is the write path
    asks."""
    if format_ == "markdown":
        try:
            check_markdown(body)
        except ValueError as error:
            reason = PydanticCustomError("body", "{reason}", {"reason": str(error)})
            fault = InitErrorDetails(type=reason, loc=("body",), input="")
            raise ValidationError.from_exception_data("body", [fault]) from None


class PostMessage(Request):
    """A message to post. It may have no body where it has attachments. `on_behalf_of` is for a trusted backend."""

    body: PostedBody
    format: Literal["plain", "markdown"] = "plain"
    attributes: Attributes = Field(default_factory=dict)
    reply_to: Seq | None = None
    mentions: Mentions = Field(default_factory=list)
    attachments: Attached = Field(default_factory=list)
    on_behalf_of: UserId | None = None

    @model_validator(mode="after")
    def _something(self) -> PostMessage:
        if not self.body and not self.attachments:
            raise ValidationError.from_exception_data("body", [_EMPTY])
        _check_format(self.body, self.format)
        return self


class KeyedMessage(PostMessage):
    key: Key


class EditMessage(Request):
    """A new body; without `format`, `mentions` or `attachments` the message keeps those that it has."""

    body: PostedBody
    format: Literal["plain", "markdown"] | None = None
    mentions: Mentions | None = None
    attachments: Attached | None = None

    @model_validator(mode="after")
    def _shown(self) -> EditMessage:
        _check_format(self.body, self.format)
        return self

    @property
    def bears(self) -> tuple[UUID, ...] | None:
        return None if self.attachments is None else tuple(self.attachments)

    @property
    def named(self) -> tuple[str, ...] | None:
        return None if self.mentions is None else tuple(self.mentions)


class PutReceipt(Request):
    read_seq: Annotated[StrictInt, Field(ge=0, le=limits.SEQ_MOST)]


class PostBatch(Request):
    """Messages that are posted all or not at all, in this order."""

    messages: Annotated[list[KeyedMessage], Field(min_length=1, max_length=limits.BATCH_POSTS)]


class MakeConversation(Request):
    """A conversation to make; its maker becomes the owner. A `direct` one names exactly one other member; a trusted
    backend names two others, and is not in it."""

    name: Name | None = None
    title: Title = ""
    kind: Kind = Kind.GROUP
    visibility: Visibility = Visibility.CLOSED
    members: Annotated[list[UserId], Field(max_length=limits.NEW_MEMBERS)] = Field(default_factory=list)
    attributes: Attributes = Field(default_factory=dict)
    retention: WantedRule | None = None

    @model_validator(mode="after")
    def _direct_has_no_rules_of_its_own(self) -> MakeConversation:
        if self.kind is Kind.DIRECT:
            if self.name is not None:
                raise ValueError("a direct conversation has no name")
            if self.visibility is Visibility.OPEN:
                raise ValueError("a direct conversation is always closed")
            if len(set(self.members)) not in (1, 2):
                raise ValueError("a direct conversation names exactly one other member; a trusted backend names two")
        return self


class ChangeConversation(Request):
    """Only the fields that are sent change; `name: null` takes the name away."""

    title: Title | None = None
    name: Name | None = None
    visibility: Visibility | None = None
    attributes: Attributes | None = None
    post_interval: Annotated[
        Annotated[StrictInt, Field(ge=1, le=limits.INTERVAL_SECONDS_MOST)] | None,
        Field(description="seconds in which a writer posts once; null for as often as they like"),
    ] = None
    default: Annotated[
        StrictBool | None, Field(description="whether everyone is a member from their first sign-in on; by a backend")
    ] = None

    @model_validator(mode="after")
    def _something(self) -> ChangeConversation:
        if not self.model_fields_set:
            raise ValueError("name at least one of title, name, visibility, attributes, post_interval, default")
        for field in ("title", "visibility", "attributes", "default"):
            if field in self.model_fields_set and getattr(self, field) is None:
                raise ValueError(f"{field} cannot be null")
        return self


class PutMember(Request):
    role: Role | None = None


class ChangeMember(Request):
    """Another role; or, for oneself, whether one's list leaves the conversation out until its next message; or what one
    is told of, and from when on."""

    role: Role | None = None
    hidden: StrictBool | None = None
    notify: Notify | None = None
    notify_after: Time | None = Field(
        default=None, description="nothing posted before then is told; null for from now on"
    )

    @model_validator(mode="after")
    def _something(self) -> ChangeMember:
        given = [self.role is not None, self.hidden is not None, "notify_after" in self.model_fields_set
                 or self.notify is not None]  # fmt: skip
        if sum(given) != 1:
            raise ValueError("send either role, or hidden, or notify and notify_after")
        return self

    @property
    def noticing(self) -> dict[str, Any]:
        """What is said of notices."""
        found: dict[str, Any] = {}
        if self.notify is not None:
            found["notify"] = self.notify.value
        if "notify_after" in self.model_fields_set:
            found["notify_after"] = self.notify_after
        return found


class ChangeProfile(Request):
    """Only the fields that are sent change; `picture: null` takes the picture away."""

    display_name: DisplayName | None = None
    picture: Picture | None = None

    @model_validator(mode="after")
    def _something(self) -> ChangeProfile:
        if not self.model_fields_set:
            raise ValueError("name at least one of display_name, picture")
        if "display_name" in self.model_fields_set and self.display_name is None:
            raise ValueError("display_name cannot be null")
        return self


class PutPerson(Request):
    """A profile that a backend puts here; what is not named stays as it is."""

    display_name: DisplayName | None = None
    picture: Picture | None = None

    @model_validator(mode="after")
    def _named(self) -> PutPerson:
        if "display_name" in self.model_fields_set and self.display_name is None:
            raise ValueError("display_name cannot be null")
        return self


class ListQuery(Request):
    """A page of a list."""

    limit: Limit = limits.PAGE_DEFAULT
    cursor: Cursor | None = None


class ReactionsQuery(ListQuery):
    symbol: Symbol | None = None


class PeopleQuery(ListQuery):
    q: Wanted = Field(
        default="", description="the beginning of a word of a name or an id; of each, where there are more"
    )
    scope: Literal["all"] | None = Field(default=None, description="`all`: everyone, for a trusted backend")


class SaidQuery(ListQuery):
    order: Literal["desc", "asc"] | None = Field(default=None, description="by default desc, newest first")


class SearchQuery(ListQuery):
    q: Annotated[Wanted | None, Field(min_length=1)] = Field(
        default=None, description='words that must all occur; `"a phrase"`, `begin*`, and `-` before what must not'
    )
    conversation_id: UUID | None = None
    author: UserId | None = None
    since: Time | None = Field(default=None, alias="from", description="RFC 3339, inclusive")
    until: Time | None = Field(default=None, alias="to", description="RFC 3339, exclusive")

    @model_validator(mode="after")
    def _asks(self) -> SearchQuery:
        if self.q is None and self.cursor is None:
            raise ValueError("send q, the words to look for, or a cursor")
        return self


class ConversationsQuery(ListQuery):
    scope: Literal["mine", "open", "all"] = "mine"
    name: Name | None = Field(default=None, description="only the conversation of this name, compared without case")
    member: UserId | None = Field(default=None, description="scope `all`: only those of which this user is a member")
    q: Wanted = Field(
        default="", description="scope `all`: only those whose name or title has words that begin with these"
    )

    @model_validator(mode="after")
    def _filters_of_all(self) -> ConversationsQuery:
        if self.scope != "all" and self.cursor is None and (self.member is not None or self.q):
            raise ValueError("member and q go with scope=all")
        if self.scope == "all" and self.name is not None:
            raise ValueError("name goes with scope=mine or scope=open; with scope=all send q")
        return self


class AttachmentsQuery(Request):
    on_behalf_of: UserId | None = Field(default=None, description="whose it shall be; for a trusted backend")


class PreviewQuery(Request):
    width: Literal["320", "960"] = Field(default="320", description="pixels that it has at most in width")


class LinkRequest(Request):
    """How long a link works, in seconds."""

    expires_in: Annotated[StrictInt, Field(ge=1, le=limits.LINK_SECONDS_MOST)] = limits.LINK_SECONDS


class MakeInvitation(Request):
    """Whom it makes of who uses it, how often it works, and for how many seconds; without these the default role, as
    often as one likes, for ever."""

    role: Role | None = None
    uses: Annotated[StrictInt, Field(ge=1, le=1_000_000)] | None = None
    expires_in: Annotated[StrictInt, Field(ge=1, le=limits.INVITATION_SECONDS_MOST)] | None = None


class MessagesQuery(Request):
    """A page of history. A cursor stands for the whole query: only `limit` may be sent beside it."""

    limit: Limit = limits.PAGE_DEFAULT
    order: Literal["desc", "asc"] | None = Field(default=None, description="by default desc, newest first")
    cursor: Cursor | None = None
    before: Annotated[int, Field(ge=0, le=limits.SEQ_MOST)] | None = None
    after: Annotated[int, Field(ge=0, le=limits.SEQ_MOST)] | None = None
    around: Annotated[int, Field(ge=0, le=limits.SEQ_MOST)] | None = None
    since: Time | None = Field(default=None, alias="from", description="RFC 3339, inclusive")
    until: Time | None = Field(default=None, alias="to", description="RFC 3339, exclusive")
    author: UserId | None = None

    @model_validator(mode="after")
    def _one_way(self) -> MessagesQuery:
        sent = self.model_fields_set - {"limit"}
        if "cursor" in sent and len(sent) > 1:
            raise ValueError("a cursor stands for the whole query; send only limit beside it")
        if len(sent & {"before", "after", "around"}) > 1:
            raise ValueError("send only one of before, after and around")
        return self


class ChangesQuery(Request):
    cursor: Cursor | None = None
    limit: Annotated[int, Field(ge=1, le=limits.CHANGES_MOST)] = limits.CHANGES_DEFAULT
    wait: Annotated[
        float, Field(ge=0, le=limits.WAIT_SECONDS, description="seconds to wait for a change while there is none")
    ] = 0


class StreamQuery(Request):
    """Where a stream of events begins; a `Last-Event-ID` header goes before it."""

    cursor: Cursor | None = None


class Scoped(Request):
    """Of all conversations of one's own; with the scope `all` every one of the store, or every one of a `kind`, for a
    trusted backend."""

    scope: Literal["mine", "all"] = "mine"
    kind: Kind | None = None

    @model_validator(mode="after")
    def _of_all(self) -> Self:
        if self.kind is not None and self.scope != "all":
            raise ValueError('kind goes with the scope "all"')
        return self


class AllStreamQuery(StreamQuery, Scoped):
    """Where a stream of all conversations begins, and of which."""


class ResyncRequest(Request):
    """An all cursor, or a cursor for each conversation held; neither is a first sync of all that is yours."""

    cursor: Cursor | None = None
    conversations: Annotated[dict[UUID, Cursor], Field(max_length=limits.RESYNC_CURSORS)] | None = None

    @model_validator(mode="after")
    def _one_of_both(self) -> ResyncRequest:
        if self.cursor is not None and self.conversations is not None:
            raise ValueError("send an all cursor or a map of conversations, not both")
        return self
