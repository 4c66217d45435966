"""The objects of the wire that are about keeping order: who is kept out, blocked or suspended, what was reported, and
what was done."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from nestrel.core.audit import Act
from nestrel.core.objects import Called, Message, Profile, WireObject


class KeptOut(WireObject):
    """Somebody who is kept out of a conversation, for good where there is no `until`."""

    user_id: str
    until: datetime | None
    reason: str | None
    kept_out_by: str
    kept_out_at: datetime


class KeptOutPage(WireObject):
    items: list[KeptOut]
    next: str | None
    profiles: dict[str, Profile]


class Blocked(WireObject):
    user_id: str
    blocked_at: datetime


class BlockedPage(WireObject):
    items: list[Blocked]
    next: str | None
    profiles: dict[str, Profile]


class Suspension(WireObject):
    """Somebody who may do nothing, for good where there is no `until`."""

    user_id: str
    until: datetime | None
    reason: str | None
    suspended_by: str
    suspended_at: datetime


class SignedOut(WireObject):
    """Tokens that were issued up to and including this second are taken no more."""

    not_before: datetime


class Report(WireObject):
    """A message that a reader has reported; `message` is what it was then, null 30 days later."""

    report_id: str
    conversation_id: str
    seq: int
    author_id: str
    reason: str
    reported_by: str
    reported_at: datetime
    state: Literal["open", "done"]
    settled_by: str | None
    settled_at: datetime | None
    message: Message | None


class ReportPage(WireObject):
    items: list[Report]
    next: str | None
    profiles: dict[str, Profile]


class AuditEntry(WireObject):
    """What `actor` did: to whom, where, and the values of before and after, without bodies or names. `text` has these
    values in words. What a backend does for somebody all day (`posted-for`, `uploaded-for`) is one entry for each hour,
    conversation and person: `at` is the beginning of the hour, `after` is `{"count"}`, `seq` and the requests are those
    of the newest. `request_id` is what the answer carried, which the caller may have chosen; `own_request_id` the
    service's own beside it."""

    audit_id: str
    at: datetime
    actor: str
    act: Act
    conversation_id: str | None
    user_id: str | None
    seq: int | None
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    reason: str | None
    text: str
    request_id: str
    own_request_id: str | None


class AuditPage(WireObject):
    """`profiles` and `conversations` have what those of the page are called now."""

    items: list[AuditEntry]
    next: str | None
    profiles: dict[str, Profile]
    conversations: dict[str, Called]


class Usage(WireObject):
    """What was used in the hour or on the day that begins at `at` (UTC). `deliveries` are change sets sent,
    `connections_peak` the most connections at one time, `people` distinct ones, `stored_bytes` what was kept at the
    end."""

    at: datetime
    id: str | None
    posts: int
    edits: int
    removals: int
    reactions: int
    receipts: int
    deliveries: int
    connections_peak: int
    people: int
    stored_bytes: int


class UsagePage(WireObject):
    items: list[Usage]
    next: str | None


class ServiceStatus(WireObject):
    """What runs: `version` and `commit` of the process that answered, `revision` of the schema, and `epoch` of the
    database, which is another one after a restore or a failover."""

    version: str
    revision: str | None
    commit: str | None
    epoch: str | None
    at: datetime


class Connected(WireObject):
    """An open socket or stream. `behind`: of how many of the conversations that it follows something is to be sent."""

    connection_id: str
    user_id: str
    process: str
    since: datetime
    kind: Literal["socket", "stream"]
    follows: int
    behind: int


class ConnectionPage(WireObject):
    items: list[Connected]
    next: str | None
    profiles: dict[str, Profile]


class PushKey(WireObject):
    """The public key by which push services know the service, in base64url (RFC 8292)."""

    key: str


class PushSubscription(WireObject):
    """A device that is told of messages."""

    subscription_id: str
    user_id: str
    endpoint: str
    expires_at: datetime | None
    created_at: datetime


class PushSubscriptionPage(WireObject):
    items: list[PushSubscription]
    next: str | None
    profiles: dict[str, Profile]
