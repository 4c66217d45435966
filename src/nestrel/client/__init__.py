"""The client library: `AsyncClient` for asyncio, `Client` for everything else.

Both raise `nestrel.core.problems.Problem` classes for what the service refuses, and `Unreachable` when it does not
answer; all of them are `NestrelError`.
"""

from nestrel.client.aio import AsyncClient
from nestrel.client.blocking import Client
from nestrel.client.errors import Unreachable
from nestrel.client.follow import ConnectionState, Event, FollowState, Unfollowed
from nestrel.core.objects import (
    ChangeSet,
    Conversation,
    ConversationPage,
    HistoryPage,
    Member,
    Message,
    Profile,
    Reaction,
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

__all__ = [
    "AsyncClient",
    "ChangeSet",
    "Client",
    "ConfirmNeeded",
    "ConnectionState",
    "Conversation",
    "ConversationPage",
    "Event",
    "Expired",
    "FollowState",
    "Forbidden",
    "HistoryPage",
    "InternalError",
    "InvalidRequest",
    "KeyReused",
    "Member",
    "Message",
    "MethodNotAllowed",
    "NameTaken",
    "NestrelError",
    "NotFound",
    "Problem",
    "Profile",
    "Reaction",
    "SlowDown",
    "StaleEdit",
    "StoreUnavailable",
    "TooLarge",
    "Unauthenticated",
    "Unfollowed",
    "Unreachable",
]
