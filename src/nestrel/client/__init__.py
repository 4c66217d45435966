"""The client library: `AsyncClient` for asyncio, `Client` for everything else.

Both raise `nestrel.core.problems.Problem` classes for what the service refuses, and `Unreachable` when it does not
answer; all of them are `NestrelError`.
"""

from nestrel.client.aio import AsyncClient
from nestrel.client.blocking import Client
from nestrel.client.errors import Unreachable
from nestrel.client.follow import ConnectionState, Event, FollowState, Unfollowed
from nestrel.client.importing import Importer, ImportProgress
from nestrel.client.live import LiveConversation
from nestrel.client.replica.schema import NotAReplica
from nestrel.client.replica.store import Resynced
from nestrel.client.replica.sync import ReplicaState, Standing
from nestrel.client.replica.synced import SyncedReplica
from nestrel.core.objects import (
    ArchivePage,
    ArchiveSegment,
    ChangeSet,
    Conversation,
    ConversationPage,
    EarlierBody,
    Erasure,
    ErasurePreview,
    HistoryPage,
    Member,
    Message,
    Profile,
    Reacted,
    Reaction,
    Reader,
    Receipt,
    RefusedLine,
    RetentionPreview,
    RetentionRule,
    RetentionRun,
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
)
from nestrel.core.replica import Replica

__all__ = [
    "ArchivePage",
    "ArchiveSegment",
    "AsyncClient",
    "ChangeSet",
    "Client",
    "ConfirmNeeded",
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
    "KeyReused",
    "LiveConversation",
    "Member",
    "Message",
    "MethodNotAllowed",
    "Misdirected",
    "NameTaken",
    "NestrelError",
    "NotAReplica",
    "NotFound",
    "OverQuota",
    "Problem",
    "Profile",
    "Reacted",
    "Reaction",
    "Reader",
    "Receipt",
    "RefusedLine",
    "Replica",
    "ReplicaState",
    "RequestTimeout",
    "Resynced",
    "RetentionPreview",
    "RetentionRule",
    "RetentionRun",
    "SlowDown",
    "StaleEdit",
    "Standing",
    "StoreUnavailable",
    "SyncedReplica",
    "TooLarge",
    "Unauthenticated",
    "Unfollowed",
    "Unreachable",
]
