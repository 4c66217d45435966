"""The fields that requests and frames are made of, with their limits. Unknown fields are refused."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any
from uuid import UUID

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, StrictInt, StrictStr

from nestrel.core import attachments, limits, symbols, text, times

PostedBody = Annotated[
    StrictStr,
    AfterValidator(lambda body: text.check_body(body) if body else body),
    Field(json_schema_extra={"maxLength": limits.BODY_CHARS}, description="may be empty where there are attachments"),
]
Key = Annotated[
    StrictStr,
    AfterValidator(text.check_key),
    Field(json_schema_extra={"minLength": 1, "maxLength": limits.KEY_CHARS}),
]
UserId = Annotated[
    StrictStr,
    AfterValidator(text.check_user_id),
    Field(json_schema_extra={"minLength": 1, "maxLength": limits.USER_ID_CHARS}),
]
Name = Annotated[
    StrictStr,
    AfterValidator(text.check_name),
    Field(json_schema_extra={"minLength": 1, "maxLength": limits.NAME_CHARS}),
]
Title = Annotated[
    StrictStr, AfterValidator(text.check_title), Field(json_schema_extra={"maxLength": limits.TITLE_CHARS})
]
DisplayName = Annotated[
    StrictStr,
    AfterValidator(text.check_display_name),
    Field(json_schema_extra={"minLength": 1, "maxLength": limits.DISPLAY_NAME_CHARS}),
]
Reason = Annotated[
    StrictStr,
    AfterValidator(text.check_reason),
    Field(json_schema_extra={"minLength": 1, "maxLength": limits.REASON_CHARS}, description="why, in one's own words"),
]
Picture = Annotated[
    StrictStr,
    AfterValidator(text.check_picture),
    Field(json_schema_extra={"maxLength": limits.PICTURE_CHARS}),
]
Symbol = Annotated[
    StrictStr,
    AfterValidator(symbols.check_symbol),
    Field(json_schema_extra={"minLength": 1}, description="`like`, or one emoji"),
]
Wanted = Annotated[
    StrictStr, AfterValidator(text.check_unicode), Field(max_length=limits.SEARCH_CHARS, description="what to look for")
]
Mentions = Annotated[
    list[UserId],
    AfterValidator(text.check_mentions),
    Field(description="user ids of members; doubled ones count once", json_schema_extra={"maxItems": limits.MENTIONS}),
]
Attached = Annotated[
    list[UUID],
    AfterValidator(attachments.check_ids),
    Field(
        description="ids of attachments of one's own; doubled ones count once",
        json_schema_extra={"maxItems": limits.ATTACHMENTS},
    ),
]
Attributes = Annotated[dict[str, Any], AfterValidator(text.check_attributes)]
Seq = Annotated[StrictInt, Field(ge=1, le=limits.SEQ_MOST)]
Cursor = Annotated[StrictStr, Field(min_length=1, max_length=limits.CURSOR_CHARS)]
Limit = Annotated[int, Field(ge=1, le=limits.PAGE_MOST)]


def _time(value: Any) -> Any:
    return times.parse_time(value) if isinstance(value, str) else value


Time = Annotated[datetime, BeforeValidator(_time)]


class Request(BaseModel):
    model_config = ConfigDict(extra="forbid")
