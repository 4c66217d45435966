"""Which handler works for a consumer of the journal, by the name of the consumer."""

from __future__ import annotations

from collections.abc import Callable
from uuid import UUID

from nestrel.core.cursors import CursorSeal
from nestrel.core.targets import Allowed
from nestrel.live.looking import Lookings
from nestrel.live.moves import Moves
from nestrel.service import push
from nestrel.service.consumers import Handler
from nestrel.service.indexer import Indexing
from nestrel.service.notice_webhooks import NoticeRequests
from nestrel.service.outbound import Outbound
from nestrel.service.push import PushHandler
from nestrel.service.push_keys import PushKey
from nestrel.service.pushing import Pushing
from nestrel.service.sending import Sender
from nestrel.service.settings import Settings
from nestrel.service.webhooks import WebhookHandler
from nestrel.store.database import Database
from nestrel.store.write.webhooks import id_of


class Handlers:
    """Makes them, and has what they send with; `seal` and `key` give what the store has to give first."""

    def __init__(
        self, database: Database, moves: Moves, lookings: Lookings, settings: Settings, seal: Callable[[], CursorSeal],
        key: Callable[[], PushKey],
    ) -> None:  # fmt: skip
        self.to_webhooks = Outbound(Allowed.parse(settings.webhook_hosts))
        # Devices are anybody's to name: this machine itself is asked only where its operator says so.
        self.to_devices = Outbound(Allowed.parse(settings.push_hosts, here=False))
        self._database = database
        self._moves = moves
        self._lookings = lookings
        self._settings = settings
        self._seal = seal
        self._key = key

    def make(self, name: str) -> Handler:
        database, moves, content, url = self._database, self._moves, self._settings.push_content, self._settings.url
        if name == "search":
            return Indexing(database, self._seal)
        if name == push.NAME:
            pushing = Pushing(database, self.to_devices, self._lookings, self._key, content, url)
            return PushHandler(database, moves, self._seal, pushing)

        def notices(id_: UUID, sender: Sender) -> NoticeRequests:
            return NoticeRequests(id_, database, moves, sender, self._lookings, content, url)

        return WebhookHandler(id_of(name), database, moves, self._seal, self.to_webhooks, notices=notices)

    async def stop(self) -> None:
        await self.to_webhooks.close()
        await self.to_devices.close()
