"""The acts that the audit records: what somebody with a role did to others, and what a backend did for somebody."""

from __future__ import annotations

from enum import StrEnum

_BETWEEN = "/"
"""Stands in no request's id."""


def request_ids(given: str, own: str) -> str:
    """What the audit keeps of a request: the id in its answer, which its caller may have chosen, and the service's own,
    which nobody has."""
    return f"{given}{_BETWEEN}{own}"


def ids_of(kept: str) -> tuple[str, str | None]:
    """The same two of what was kept; no own one is known of what was kept before there was one, or came by no
    request."""
    given, between, own = kept.partition(_BETWEEN)
    return given, own if between else None


class Act(StrEnum):
    """What was done. Names, bodies and titles are never written down beside it, only ids and the values of rules."""

    MEMBER_ADDED = "member-added"
    MEMBER_ROLE = "member-role"
    MEMBER_REMOVED = "member-removed"
    KEPT_OUT = "kept-out"
    LET_IN = "let-in"
    INVITED = "invited"
    INVITATION_REVOKED = "invitation-revoked"
    INVITATION_ACCEPTED = "invitation-accepted"
    PERSON_PUT = "person-put"
    CONVERSATION_MADE = "conversation-made"
    CONVERSATION_CHANGED = "conversation-changed"
    CONVERSATION_CLOSED = "conversation-closed"
    RULE_SET = "rule-set"
    RULE_CLEARED = "rule-cleared"
    SERVICE_RULE_SET = "service-rule-set"
    MESSAGE_REMOVED = "message-removed"
    REPORT_SETTLED = "report-settled"
    POSTED_FOR = "posted-for"
    UPLOADED_FOR = "uploaded-for"
    IMPORTED = "imported"
    SUSPENDED = "suspended"
    SUSPENSION_ENDED = "suspension-ended"
    SIGNED_OUT = "signed-out"
    CONNECTION_ENDED = "connection-ended"
    ERASED = "erased"
    ERASURE_DELETED = "erasure-deleted"
    EXPORTED = "exported"
    WEBHOOK_MADE = "webhook-made"
    WEBHOOK_CHANGED = "webhook-changed"
    WEBHOOK_DELETED = "webhook-deleted"
    WEBHOOK_REPLAYED = "webhook-replayed"
