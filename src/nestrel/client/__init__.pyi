"""The names of the client library, and where each is. `__init__.py` imports them from here when they are first used."""

from nestrel.client.aio import AsyncClient as AsyncClient
from nestrel.client.attachments import Changed as Changed
from nestrel.client.blocking import Client as Client
from nestrel.client.follow import (
    ConnectionState as ConnectionState,
)
from nestrel.client.follow import (
    Event as Event,
)
from nestrel.client.follow import (
    Follow as Follow,
)
from nestrel.client.follow import (
    FollowAll as FollowAll,
)
from nestrel.client.follow import (
    FollowEverything as FollowEverything,
)
from nestrel.client.follow import (
    FollowState as FollowState,
)
from nestrel.client.follow import (
    Unfollowed as Unfollowed,
)
from nestrel.client.importing import (
    Chunk as Chunk,
)
from nestrel.client.importing import (
    Importer as Importer,
)
from nestrel.client.importing import (
    ImportProgress as ImportProgress,
)
from nestrel.client.live import LiveConversation as LiveConversation
from nestrel.client.receiving import (
    NotSigned as NotSigned,
)
from nestrel.client.receiving import (
    received as received,
)
from nestrel.client.replica.schema import NotAReplica as NotAReplica
from nestrel.client.replica.store import Resynced as Resynced
from nestrel.client.replica.sync import (
    ReplicaState as ReplicaState,
)
from nestrel.client.replica.sync import (
    Standing as Standing,
)
from nestrel.client.replica.synced import SyncedReplica as SyncedReplica
from nestrel.client.running import BlockingFollow as BlockingFollow
from nestrel.core.kept_objects import (
    ArchivePage as ArchivePage,
)
from nestrel.core.kept_objects import (
    ArchiveSegment as ArchiveSegment,
)
from nestrel.core.kept_objects import (
    Erasure as Erasure,
)
from nestrel.core.kept_objects import (
    ErasurePreview as ErasurePreview,
)
from nestrel.core.kept_objects import (
    ImportAnswer as ImportAnswer,
)
from nestrel.core.kept_objects import (
    RefusedLine as RefusedLine,
)
from nestrel.core.kept_objects import (
    RetentionPreview as RetentionPreview,
)
from nestrel.core.kept_objects import (
    RetentionRule as RetentionRule,
)
from nestrel.core.kept_objects import (
    RetentionRun as RetentionRun,
)
from nestrel.core.objects import (
    Attachment as Attachment,
)
from nestrel.core.objects import (
    AttachmentLink as AttachmentLink,
)
from nestrel.core.objects import (
    ChangeSet as ChangeSet,
)
from nestrel.core.objects import (
    Conversation as Conversation,
)
from nestrel.core.objects import (
    ConversationPage as ConversationPage,
)
from nestrel.core.objects import (
    EarlierBody as EarlierBody,
)
from nestrel.core.objects import (
    HistoryPage as HistoryPage,
)
from nestrel.core.objects import (
    Hit as Hit,
)
from nestrel.core.objects import (
    Invitation as Invitation,
)
from nestrel.core.objects import (
    Invited as Invited,
)
from nestrel.core.objects import (
    Me as Me,
)
from nestrel.core.objects import (
    Member as Member,
)
from nestrel.core.objects import (
    Message as Message,
)
from nestrel.core.objects import (
    Profile as Profile,
)
from nestrel.core.objects import (
    Reacted as Reacted,
)
from nestrel.core.objects import (
    Reaction as Reaction,
)
from nestrel.core.objects import (
    Reader as Reader,
)
from nestrel.core.objects import (
    Receipt as Receipt,
)
from nestrel.core.objects import (
    SaidPage as SaidPage,
)
from nestrel.core.objects import (
    SearchPage as SearchPage,
)
from nestrel.core.objects import (
    Unread as Unread,
)
from nestrel.core.order_objects import (
    AuditEntry as AuditEntry,
)
from nestrel.core.order_objects import (
    AuditPage as AuditPage,
)
from nestrel.core.order_objects import (
    Blocked as Blocked,
)
from nestrel.core.order_objects import (
    Connected as Connected,
)
from nestrel.core.order_objects import (
    KeptOut as KeptOut,
)
from nestrel.core.order_objects import (
    PushSubscription as PushSubscription,
)
from nestrel.core.order_objects import (
    Report as Report,
)
from nestrel.core.order_objects import (
    ServiceStatus as ServiceStatus,
)
from nestrel.core.order_objects import (
    SignedOut as SignedOut,
)
from nestrel.core.order_objects import (
    Suspension as Suspension,
)
from nestrel.core.order_objects import (
    Usage as Usage,
)
from nestrel.core.outbox import Entry as Entry
from nestrel.core.problems import (
    ConfirmNeeded as ConfirmNeeded,
)
from nestrel.core.problems import (
    Expired as Expired,
)
from nestrel.core.problems import (
    Forbidden as Forbidden,
)
from nestrel.core.problems import (
    HeadersTooLarge as HeadersTooLarge,
)
from nestrel.core.problems import (
    InternalError as InternalError,
)
from nestrel.core.problems import (
    InvalidRequest as InvalidRequest,
)
from nestrel.core.problems import (
    KeyReused as KeyReused,
)
from nestrel.core.problems import (
    MethodNotAllowed as MethodNotAllowed,
)
from nestrel.core.problems import (
    Misdirected as Misdirected,
)
from nestrel.core.problems import (
    NameTaken as NameTaken,
)
from nestrel.core.problems import (
    NestrelError as NestrelError,
)
from nestrel.core.problems import (
    NotFound as NotFound,
)
from nestrel.core.problems import (
    OverQuota as OverQuota,
)
from nestrel.core.problems import (
    Problem as Problem,
)
from nestrel.core.problems import (
    RequestTimeout as RequestTimeout,
)
from nestrel.core.problems import (
    SlowDown as SlowDown,
)
from nestrel.core.problems import (
    StaleEdit as StaleEdit,
)
from nestrel.core.problems import (
    StoreUnavailable as StoreUnavailable,
)
from nestrel.core.problems import (
    TooLarge as TooLarge,
)
from nestrel.core.problems import (
    Unauthenticated as Unauthenticated,
)
from nestrel.core.problems import (
    Unreachable as Unreachable,
)
from nestrel.core.problems import (
    UpgradeRequired as UpgradeRequired,
)
from nestrel.core.replica import Replica as Replica
from nestrel.core.roles import Role as Role
from nestrel.core.webhook_objects import (
    Webhook as Webhook,
)
from nestrel.core.webhook_objects import (
    WebhookDelivery as WebhookDelivery,
)
from nestrel.core.webhook_objects import (
    WebhookMade as WebhookMade,
)
