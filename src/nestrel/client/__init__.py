"""The client library: `AsyncClient` for asyncio, `Client` for everything else.

Both raise `nestrel.core.problems.Problem` classes for what the service refuses, and `Unreachable` when it does not
answer; all of them are `NestrelError`.
"""

from nestrel.client.aio import AsyncClient
from nestrel.client.blocking import Client
from nestrel.client.errors import Unreachable
from nestrel.client.follow import ConnectionState, Event, FollowState, Unfollowed
from nestrel.client.live import LiveConversation
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
    "NotFound",
    "Problem",
    "Profile",
    "Reacted",
    "Reaction",
    "Reader",
    "Receipt",
    "Replica",
    "SlowDown",
    "StaleEdit",
    "StoreUnavailable",
    "TooLarge",
    "Unauthenticated",
    "Unfollowed",
    "Unreachable",
]
