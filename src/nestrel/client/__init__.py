"""The client library: `AsyncClient` for asyncio, `Client` for everything else.

Both raise `nestrel.core.problems.Problem` classes for what the service refuses, and `Unreachable` when it does not
answer; all of them are `NestrelError`.
"""

from nestrel.client.aio import AsyncClient
from nestrel.client.blocking import Client
from nestrel.client.errors import Unreachable
from nestrel.client.follow import ConnectionState, Event, FollowState, Unfollowed
from nestrel.client.live import LiveConversation
from nestrel.client.replica.schema import NotAReplica
from nestrel.client.replica.store import Resynced
from nestrel.client.replica.sync import ReplicaState, Standing
from nestrel.client.replica.synced import SyncedReplica
from nestrel.core.objects import (
    ChangeSet,
    Conversation,
    ConversationPage,
    EarlierBody,
    HistoryPage,
    Member,
    Message,
    Profile,
    Reacted,
    Reaction,
    Reader,
    Receipt,
)
from nestrel.core.outbox import Entry
from nestrel.core.problems import (
    ConfirmNeeded,
    Expired,
    Forbidden,
    InternalError,
    InvalidRequest,
    KeyReused,
    MethodNotAllowed,
    NameTaken,
    NestrelError,
    NotFound,
    Problem,
    SlowDown,
    StaleEdit,
    StoreUnavailable,
    TooLarge,
    Unauthenticated,
)
from nestrel.core.replica import Replica

__all__ = [
    "AsyncClient",
    "ChangeSet",
    "Client",
    "ConfirmNeeded",
    "ConnectionState",
    "Conversation",
    "ConversationPage",
    "EarlierBody",
    "Entry",
    "Event",
    "Expired",
    "FollowState",
    "Forbidden",
    "HistoryPage",
    "InternalError",
    "InvalidRequest",
    "KeyReused",
    "LiveConversation",
    "Member",
    "Message",
    "MethodNotAllowed",
    "NameTaken",
    "NestrelError",
    "NotAReplica",
    "NotFound",
    "Problem",
    "Profile",
    "Reacted",
    "Reaction",
    "Reader",
    "Receipt",
    "Replica",
    "ReplicaState",
    "Resynced",
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
