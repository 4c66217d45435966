"""The models of requests about webhooks."""

from __future__ import annotations

from typing import Annotated, Literal
from uuid import UUID

from pydantic import AfterValidator, Field, StrictStr

from nestrel.core.limits import CURSOR_CHARS
from nestrel.core.webhooks import State, secret_of
from nestrel.service.fields import Request, Time


def _secret(text: str) -> str:
    secret_of(text)
    return text


Url = Annotated[
    StrictStr,
    Field(
        min_length=1,
        max_length=2_000,
        description="https, or http to this machine itself, as in http://127.0.0.1:9000/",
    ),
]
Secret = Annotated[
    StrictStr,
    AfterValidator(_secret),
    Field(max_length=128, description="whsec_ and the base64 of 24 to 64 bytes; one is made where none is given"),
]


class MakeWebhook(Request):
    url: Url
    conversation_id: UUID | None = Field(default=None, description="only this conversation")
    type: Literal["changes", "notices"] = "changes"
    secret: Secret | None = None


class ChangeWebhook(Request):
    url: Url | None = None
    state: State | None = None
    secret: Secret | None = Field(default=None, description="the one before signs too for 24 hours")


class ReplayWebhook(Request):
    """Either: again from a cursor of its own, or messages made since a time; or everything anew, from the `start`."""

    cursor: Annotated[StrictStr, Field(min_length=1, max_length=CURSOR_CHARS)] | None = None
    since: Literal["start"] | Time | None = Field(
        default=None, alias="from", description="RFC 3339, inclusive; or start"
    )
