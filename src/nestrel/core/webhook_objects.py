"""The objects of the wire that are about webhooks."""

from __future__ import annotations

from datetime import datetime
from typing import Literal

from nestrel.core.objects import Profile, WireObject
from nestrel.core.webhooks import State


class Replaying(WireObject):
    """How far it has come that everything is sent again, or what was posted since a time: of how many conversations
    that is done."""

    conversations: int
    of: int


class Webhook(WireObject):
    """Where changes are sent to. `attempt` counts how often in a row a request has failed, `failing_since` and
    `next_at` say since when, and when it is tried again. `behind` is for how many seconds something waits to be
    sent."""

    webhook_id: str
    url: str
    type: Literal["changes", "notices"]
    conversation_id: str | None
    state: State
    cursor: str
    created_by: str
    created_at: datetime
    attempt: int
    failing_since: datetime | None
    next_at: datetime | None
    replaying: Replaying | None
    behind: float


class WebhookMade(Webhook):
    """With the secret that signs its requests, which no other answer has."""

    secret: str


class WebhookPage(WireObject):
    items: list[Webhook]
    next: str | None
    profiles: dict[str, Profile]


class WebhookDelivery(WireObject):
    """A request that was made: `status` is null where no answer came, and `error` says why. `next_at` is when it is
    tried again."""

    at: datetime
    attempt: int
    status: int | None
    ms: int
    error: str | None
    next_at: datetime | None


class WebhookDeliveryPage(WireObject):
    items: list[WebhookDelivery]
    next: str | None
