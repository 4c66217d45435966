"""The models of requests about keeping order, usage and the audit."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Literal
from uuid import UUID

from pydantic import Field

from nestrel.core.problems import invalid
from nestrel.service.fields import Reason, Request, Time, UserId
from nestrel.service.models import ListQuery


class Nothing(Request):
    """A body that holds nothing."""


class Until(Request):
    """Until when, without which it is for good, and why."""

    until: Time | None = None
    reason: Reason | None = None


def until_of(wanted: Until | None) -> tuple[datetime | None, str | None]:
    """What a request says of the end and the reason. Raises `InvalidRequest` for an end that is over."""
    if wanted is None:
        return None, None
    if wanted.until is not None and wanted.until <= datetime.now(UTC):
        raise invalid("/until", "is over already; send a time that is to come, or none for good")
    return wanted.until, wanted.reason


class ReportMessage(Request):
    reason: Reason


class SettleReport(Request):
    state: Literal["open", "done"]


class ReportsQuery(ListQuery):
    state: Literal["open", "done"] | None = None
    conversation_id: UUID | None = None


class AuditQuery(ListQuery):
    since: Time | None = Field(default=None, alias="from", description="RFC 3339, inclusive")
    until: Time | None = Field(default=None, alias="to", description="RFC 3339, exclusive")
    actor: UserId | None = Field(default=None, description="only what this user did")
    conversation_id: UUID | None = None


class UsageQuery(ListQuery):
    since: Time | None = Field(default=None, alias="from", description="RFC 3339, inclusive; seven days by default")
    until: Time | None = Field(default=None, alias="to", description="RFC 3339, exclusive")
    by: Literal["hour", "day"] = "hour"
    of: Literal["service", "conversation", "person"] = "service"
    id: UserId | None = Field(default=None, description="only this conversation, or this person")


class ConnectionsQuery(ListQuery):
    user_id: UserId | None = None
