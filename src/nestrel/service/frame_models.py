"""The models of a client's WebSocket frames."""

from __future__ import annotations

from typing import Annotated, Any, Literal
from uuid import UUID

from pydantic import Field, StrictInt, StrictStr, WithJsonSchema

from nestrel.core import limits
from nestrel.core.problems import invalid
from nestrel.service.fields import Cursor, Request, Seq, Symbol
from nestrel.service.models import EditMessage, KeyedMessage, PutReceipt, Scoped


class Frame(Request):
    """What every client frame may carry; `ref` comes back with the answer."""

    type: str
    ref: StrictStr | StrictInt | None = None


class SignInFrame(Frame):
    """On a line that has not signed in yet, `follow_all` follows all conversations at once, from `cursor` or from now
    on. What is wrong with these two refuses the following and not the sign-in, so they are looked at behind it."""

    token: StrictStr
    follow_all: Annotated[Any, WithJsonSchema({"type": ["boolean", "null"]})] = None
    cursor: Annotated[Any, WithJsonSchema({"type": ["string", "null"], "maxLength": limits.CURSOR_CHARS})] = None

    @property
    def following(self) -> FollowAllFrame | None:
        """What it asks for beside the sign-in. Raises `InvalidRequest`."""
        if not isinstance(self.follow_all, bool | None):
            raise invalid("/follow_all", "must be true or false")
        if self.cursor is not None and not isinstance(self.cursor, str):
            raise invalid("/cursor", "must be text: an all cursor, as a checkpoint has it")
        if self.cursor is not None and not self.follow_all:
            raise invalid("/cursor", 'goes with "follow_all": true')
        if not self.follow_all:
            return None
        return FollowAllFrame.model_validate({"type": "follow_all", "ref": self.ref, "cursor": self.cursor})


class FollowFrame(Frame):
    conversation_id: UUID
    cursor: Cursor | None = None


class FollowAllFrame(Frame, Scoped):
    cursor: Cursor | None = None


class SignalFrame(Frame):
    conversation_id: UUID
    name: Literal["writing"]


class LookingFrame(Frame):
    """What is on the screen; null for nothing. It counts for 60 seconds."""

    conversation_id: UUID | None


class PingFrame(Frame):
    """Answered with `done`: for a client that has heard nothing for a while."""


class UnfollowFrame(Frame):
    conversation_id: UUID


class PostFrame(Frame, KeyedMessage):
    conversation_id: UUID


class MessageFrame(Frame):
    conversation_id: UUID
    seq: Seq


class EditFrame(MessageFrame, EditMessage):
    rev: Annotated[StrictInt, Field(ge=1, le=limits.SEQ_MOST)] | None = None


class RemoveFrame(MessageFrame):
    pass


class ReactFrame(MessageFrame):
    symbol: Symbol


class UnreactFrame(ReactFrame):
    pass


class ReadFrame(Frame, PutReceipt):
    conversation_id: UUID
