"""The calls about webhooks, for a trusted backend."""

from __future__ import annotations

from collections.abc import AsyncIterator
from datetime import datetime
from typing import Literal
from urllib.parse import quote

from nestrel.client.order import OrderCalls
from nestrel.core.times import format_time
from nestrel.core.webhook_objects import Webhook, WebhookDelivery, WebhookDeliveryPage, WebhookMade, WebhookPage


def _hook(webhook_id: str, *rest: str) -> str:
    return "/".join(["/webhooks", quote(webhook_id, safe=""), *rest])


class WebhookCalls(OrderCalls):
    """The part of `AsyncClient` that is about webhooks."""

    async def make_webhook(
        self,
        url: str,
        *,
        conversation_id: str | None = None,
        type: Literal["changes", "notices"] = "changes",
        secret: str | None = None,
    ) -> WebhookMade:
        """Have all that changes from now on sent to an address, or what changes in one conversation. Its `secret`,
        which signs every request, is in this answer alone (`nestrel.client.received` checks them)."""
        wanted = {"url": url, "conversation_id": conversation_id, "type": type, "secret": secret}
        body = {name: value for name, value in wanted.items() if value is not None}
        return WebhookMade.model_validate(await self._transport.json("POST", "/webhooks", body=body))

    async def webhooks(self) -> AsyncIterator[Webhook]:
        """The webhooks, the oldest first."""
        async for item in self._every(WebhookPage, "/webhooks"):
            yield item

    async def webhook(self, webhook_id: str) -> Webhook:
        """One webhook as it stands."""
        return Webhook.model_validate(await self._get(_hook(webhook_id)))

    async def change_webhook(
        self,
        webhook_id: str,
        *,
        url: str | None = None,
        state: Literal["active", "paused"] | None = None,
        secret: str | None = None,
    ) -> Webhook:
        """Change an address or a secret, pause it or let it go on; the secret of before signs too for 24 hours."""
        wanted = {"url": url, "state": state, "secret": secret}
        body = {name: value for name, value in wanted.items() if value is not None}
        answer = await self._transport.json("PATCH", _hook(webhook_id), body=body, repeatable=secret is None)
        return Webhook.model_validate(answer)

    async def delete_webhook(self, webhook_id: str) -> None:
        """Take a webhook away."""
        await self._transport.json("DELETE", _hook(webhook_id), repeatable=True)

    async def webhook_deliveries(self, webhook_id: str) -> AsyncIterator[WebhookDelivery]:
        """What came of its last requests, the newest first."""
        async for item in self._every(WebhookDeliveryPage, _hook(webhook_id, "deliveries")):
            yield item

    async def replay_webhook(
        self,
        webhook_id: str,
        *,
        cursor: str | None = None,
        since: datetime | None = None,
        everything: bool = False,
    ) -> Webhook:
        """Have sent again what came behind a cursor of the webhook's, or messages made since a time, as they now stand;
        or `everything` that is kept, each conversation from its beginning."""
        begin = "start" if everything else since and format_time(since)
        body = {"cursor": cursor} if cursor is not None else {"from": begin}
        return Webhook.model_validate(await self._transport.json("POST", _hook(webhook_id, "replay"), body=body))
