"""The models of requests for exports, and of a line of an import."""

from __future__ import annotations

from typing import Annotated, Any, Literal
from uuid import UUID

from pydantic import BaseModel, ConfigDict, Field, StrictInt, StrictStr

from nestrel.service.fields import Attributes, Key, Mentions, Request, Seq, Time, UserId


class ExportQuery(Request):
    """`part`: the live messages, the archive, or all of it; `form`: JSON Lines or CSV."""

    part: Literal["live", "archive", "all"] = "live"
    form: Literal["jsonl", "csv"] = "jsonl"

    @property
    def live(self) -> bool:
        return self.part != "archive"

    @property
    def archived(self) -> bool:
        return self.part != "live"


class ImportLine(BaseModel):
    """One message to bring in: a message object as an export has it, of which these fields are read. `key` makes a
    repeat harmless. `reply_line` is the line of this request, from 1, that it replies to; `reply_to` a message that
    is here already. A tombstone comes with `removed_at` and no body."""

    model_config = ConfigDict(extra="ignore")

    key: Key
    author_id: UserId
    body: StrictStr = ""
    format: Literal["plain", "markdown"] = "plain"
    attributes: Attributes = Field(default_factory=dict)
    mentions: Mentions = Field(default_factory=list)
    attachments: list[UUID | dict[str, Any]] = Field(
        default_factory=list, description="what its author has uploaded here: ids, or the objects that a message has"
    )
    created_at: Time | None = None
    reply_to: Seq | None = None
    reply_line: Annotated[StrictInt, Field(ge=1)] | None = None
    removed_at: Time | None = None
    removed_by: UserId | None = None
    edited_at: Time | None = None
    earlier: list[dict[str, Any]] = Field(default_factory=list, description="earlier bodies, as an export has them")
    reacted: list[dict[str, Any]] = Field(default_factory=list, description="who reacted, as an export has them")
