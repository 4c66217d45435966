"""The models of requests about retention."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import AfterValidator, Field, StrictBool, StrictInt, StrictStr, model_validator

from nestrel.core import limits
from nestrel.core.durations import Duration
from nestrel.core.retention import Rule, Then
from nestrel.core.roles import Kind
from nestrel.service.fields import Request, UserId


def _duration(text: str) -> str:
    Duration.parse(text)
    return text


Keep = Annotated[StrictInt, Field(ge=1, le=limits.SEQ_MOST)]


class WantedRule(Request):
    """What a conversation keeps. All limits that are given hold, the strictest wins; `then` says what becomes of the
    rest. `hold` stops it all until it is lifted, and `{"hold": true}` alone is a rule."""

    keep_last: Annotated[Keep | None, Field(description="messages, without tombstones")] = None
    keep_for: Annotated[
        Annotated[StrictStr, AfterValidator(_duration), Field(max_length=limits.DURATION_CHARS)] | None,
        Field(description="an age, ISO 8601, as in P30D"),
    ] = None
    keep_bytes: Annotated[Keep | None, Field(description="bytes of bodies and attributes, UTF-8")] = None
    then: Literal["archive", "discard"] | None = None
    hold: StrictBool = False

    @model_validator(mode="after")
    def _is_a_rule(self) -> WantedRule:
        limited = not (self.keep_last is None and self.keep_for is None and self.keep_bytes is None)
        if not limited and not self.hold:
            raise ValueError("name at least one of keep_last, keep_for, keep_bytes, or hold: true")
        if limited and self.then is None:
            raise ValueError("then must say what becomes of what expires: archive or discard")
        return self

    @property
    def rule(self) -> Rule:
        for_ = Duration.parse(self.keep_for) if self.keep_for is not None else None
        return Rule(self.keep_last, for_, self.keep_bytes, Then(self.then or Then.ARCHIVE), self.hold)


class PutRetention(WantedRule):
    """`confirm` is needed where the rule takes something away at once."""

    confirm: StrictBool = False


class Confirmation(Request):
    confirm: bool = False


class OfKind(Request):
    """Which conversations a rule is for."""

    kind: Kind | None = Field(default=None, description="those of a kind; by default all")


class ClearOfKind(Confirmation, OfKind):
    """Which rule is cleared."""


class AskErasure(Request):
    user_id: UserId


class ErasePerson(AskErasure):
    """`confirm` is needed, as nothing brings back what has been erased. With `identity` the user id goes as well."""

    confirm: StrictBool = False
    identity: StrictBool = False
