"""The calls about notices: what one is told of while one is not here, and on which devices."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping
from datetime import datetime
from typing import Any, Literal
from urllib.parse import quote

from nestrel.client.messages import path
from nestrel.client.webhooks import WebhookCalls
from nestrel.core.order_objects import PushKey, PushSubscription, PushSubscriptionPage
from nestrel.core.times import format_time

_DEVICES = "/me/push-subscriptions"


class NoticeCalls(WebhookCalls):
    """The part of `AsyncClient` that is about notices."""

    async def notify(self, conversation_id: str, notify: Literal["all", "mentions", "none"]) -> None:
        """Say what one wants to be told of in a conversation; `my_notify` of a `Conversation` has it."""
        await self._prefer(conversation_id, {"notify": notify})

    async def notify_after(self, conversation_id: str, moment: datetime | None) -> None:
        """Be told of nothing that is posted before a moment, or of everything again (None)."""
        await self._prefer(conversation_id, {"notify_after": None if moment is None else format_time(moment)})

    async def _prefer(self, conversation_id: str, body: dict[str, str | None]) -> None:
        where = path(conversation_id, "members", "me")
        await self._transport.json("PATCH", where, body=body, repeatable=True)

    async def push_key(self) -> str:
        """The public key of the service, which a browser wants when it subscribes (RFC 8292)."""
        return PushKey.model_validate(await self._get("/push-key")).key

    async def put_device(self, subscription: Mapping[str, Any]) -> PushSubscription:
        """Have a device told, by what its browser gave: `endpoint`, `keys` with `p256dh` and `auth`, and
        `expirationTime`. It is nobody else's from then on."""
        answer = await self._transport.json("PUT", _DEVICES, body=dict(subscription), repeatable=True)
        return PushSubscription.model_validate(answer)

    async def devices(self) -> AsyncIterator[PushSubscription]:
        """One's devices, the oldest first."""
        async for item in self._every(PushSubscriptionPage, _DEVICES):
            yield item

    async def forget_device(self, subscription_id: str) -> None:
        """Tell a device nothing more."""
        await self._transport.json("DELETE", f"{_DEVICES}/{quote(subscription_id, safe='')}", repeatable=True)
