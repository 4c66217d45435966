"""The client library: `AsyncClient` for asyncio, `Client` for everything else.

Both raise `nestrel.core.problems.Problem` classes for what the service refuses, and `Unreachable` when it does not
answer; all of them are `NestrelError`.

Names are imported when they are first used: whoever only posts loads no SQLite and no WebSocket.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from nestrel.client.aio import AsyncClient
    from nestrel.client.attachments import Changed
    from nestrel.client.blocking import Client
    from nestrel.client.follow import ConnectionState, Event, FollowState, Unfollowed
    from nestrel.client.importing import Importer, ImportProgress
    from nestrel.client.live import LiveConversation
    from nestrel.client.receiving import NotSigned, received
    from nestrel.client.replica.schema import NotAReplica
    from nestrel.client.replica.store import Resynced
    from nestrel.client.replica.sync import ReplicaState, Standing
    from nestrel.client.replica.synced import SyncedReplica
    from nestrel.core.kept_objects import (
        ArchivePage,
        ArchiveSegment,
        Erasure,
        ErasurePreview,
        RefusedLine,
        RetentionPreview,
        RetentionRule,
        RetentionRun,
    )
    from nestrel.core.objects import (
        Attachment,
        AttachmentLink,
        ChangeSet,
        Conversation,
        ConversationPage,
        EarlierBody,
        HistoryPage,
        Invitation,
        Invited,
        Me,
        Member,
        Message,
        Profile,
        Reacted,
        Reaction,
        Reader,
        Receipt,
        Unread,
    )
    from nestrel.core.order_objects import (
        AuditEntry,
        Blocked,
        Connected,
        KeptOut,
        PushSubscription,
        Report,
        ServiceStatus,
        SignedOut,
        Suspension,
        Usage,
    )
    from nestrel.core.outbox import Entry
    from nestrel.core.problems import (
        ConfirmNeeded,
        Expired,
        Forbidden,
        HeadersTooLarge,
        InternalError,
        InvalidRequest,
        KeyReused,
        MethodNotAllowed,
        Misdirected,
        NameTaken,
        NestrelError,
        NotFound,
        OverQuota,
        Problem,
        RequestTimeout,
        SlowDown,
        StaleEdit,
        StoreUnavailable,
        TooLarge,
        Unauthenticated,
        Unreachable,
        UpgradeRequired,
    )
    from nestrel.core.replica import Replica
    from nestrel.core.webhook_objects import Webhook, WebhookDelivery, WebhookMade

_WHERE = {
    "nestrel.client.aio": "AsyncClient",
    "nestrel.client.attachments": "Changed",
    "nestrel.client.blocking": "Client",
    "nestrel.client.follow": "ConnectionState Event FollowState Unfollowed",
    "nestrel.client.importing": "ImportProgress Importer",
    "nestrel.client.live": "LiveConversation",
    "nestrel.client.receiving": "NotSigned received",
    "nestrel.client.replica.schema": "NotAReplica",
    "nestrel.client.replica.store": "Resynced",
    "nestrel.client.replica.sync": "ReplicaState Standing",
    "nestrel.client.replica.synced": "SyncedReplica",
    "nestrel.core.kept_objects": (
        "ArchivePage ArchiveSegment Erasure ErasurePreview RefusedLine RetentionPreview RetentionRule RetentionRun"
    ),
    "nestrel.core.objects": (
        "Attachment AttachmentLink ChangeSet Conversation ConversationPage EarlierBody HistoryPage Invitation "
        "Invited Me Member Message Profile Reacted Reaction Reader Receipt Unread"
    ),
    "nestrel.core.order_objects": (
        "AuditEntry Blocked Connected KeptOut PushSubscription Report ServiceStatus SignedOut Suspension Usage"
    ),
    "nestrel.core.outbox": "Entry",
    "nestrel.core.problems": (
        "ConfirmNeeded Expired Forbidden HeadersTooLarge InternalError InvalidRequest KeyReused MethodNotAllowed "
        "Misdirected NameTaken NestrelError NotFound OverQuota Problem RequestTimeout SlowDown StaleEdit "
        "StoreUnavailable TooLarge Unauthenticated Unreachable UpgradeRequired"
    ),
    "nestrel.core.replica": "Replica",
    "nestrel.core.webhook_objects": "Webhook WebhookDelivery WebhookMade",
}
_MODULES = {name: module for module, names in _WHERE.items() for name in names.split()}


def __getattr__(name: str) -> Any:
    if name not in _MODULES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = globals()[name] = getattr(import_module(_MODULES[name]), name)
    return value


def __dir__() -> list[str]:
    return sorted({*globals(), *_MODULES})


__all__ = [
    "ArchivePage",
    "ArchiveSegment",
    "AsyncClient",
    "Attachment",
    "AttachmentLink",
    "AuditEntry",
    "Blocked",
    "ChangeSet",
    "Changed",
    "Client",
    "ConfirmNeeded",
    "Connected",
    "ConnectionState",
    "Conversation",
    "ConversationPage",
    "EarlierBody",
    "Entry",
    "Erasure",
    "ErasurePreview",
    "Event",
    "Expired",
    "FollowState",
    "Forbidden",
    "HeadersTooLarge",
    "HistoryPage",
    "ImportProgress",
    "Importer",
    "InternalError",
    "InvalidRequest",
    "Invitation",
    "Invited",
    "KeptOut",
    "KeyReused",
    "LiveConversation",
    "Me",
    "Member",
    "Message",
    "MethodNotAllowed",
    "Misdirected",
    "NameTaken",
    "NestrelError",
    "NotAReplica",
    "NotFound",
    "NotSigned",
    "OverQuota",
    "Problem",
    "Profile",
    "PushSubscription",
    "Reacted",
    "Reaction",
    "Reader",
    "Receipt",
    "RefusedLine",
    "Replica",
    "ReplicaState",
    "Report",
    "RequestTimeout",
    "Resynced",
    "RetentionPreview",
    "RetentionRule",
    "RetentionRun",
    "ServiceStatus",
    "SignedOut",
    "SlowDown",
    "StaleEdit",
    "Standing",
    "StoreUnavailable",
    "Suspension",
    "SyncedReplica",
    "TooLarge",
    "Unauthenticated",
    "Unfollowed",
    "Unreachable",
    "Unread",
    "UpgradeRequired",
    "Usage",
    "Webhook",
    "WebhookDelivery",
    "WebhookMade",
    "received",
]
