"""The asynchronous client."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING

import httpx

from nestrel.client.conversations import ConversationCalls
from nestrel.client.transport import TokenSource, Transport

if TYPE_CHECKING:  # each is imported by the method that gives one: they bring WebSockets and SQLite
    from nestrel.client.follow import Follow, FollowAll, FollowEverything
    from nestrel.client.live import LiveConversation
    from nestrel.client.replica.synced import SyncedReplica


class AsyncClient(ConversationCalls):
    """A member's, or a trusted backend's, view of one service.

    Parameters:
        base_url: the service's address, such as `http://127.0.0.1:8460`.
        token: a bearer token, or a function (also an asynchronous one) that gives a fresh one whenever it is asked.
        tries: how often a repeatable request is sent in all; posts are repeatable, as each carries its key.
        timeout: seconds for one exchange.

    Every method raises a `Problem` when the service refuses and `Unreachable` when it does not answer.
    """

    def __init__(
        self,
        base_url: str,
        token: TokenSource,
        *,
        tries: int = 5,
        timeout: float = 30.0,
        transport: httpx.AsyncBaseTransport | None = None,
    ) -> None:
        super().__init__(Transport(base_url, token, tries=max(1, tries), timeout=timeout, transport=transport))
        self._base_url = base_url

    async def __aenter__(self) -> AsyncClient:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        await self._transport.close()

    def follow(
        self,
        conversation_id: str,
        cursor: str | None = None,
        *,
        on_rewound: Callable[[], Awaitable[None]] | None = None,
    ) -> Follow:
        """Change sets as they commit, as an asynchronous iterator that reconnects by itself and resumes where it was.

        Without a cursor it begins with what comes from now on; a history page's `change_cursor` begins right after
        that page, with no hole and no double. `on_rewound`: see `Follow`.
        """
        from nestrel.client.follow import Follow

        return Follow(self._base_url, self._transport.token, conversation_id, cursor, on_rewound)

    def follow_all(
        self, cursor: str | None = None, *, on_rewound: Callable[[], Awaitable[None]] | None = None
    ) -> FollowAll:
        """The same of all of one's conversations, those that one joins later included, on one line; an `Unfollowed`
        tells of one that is one's own no more, and ends nothing. `cursor` is an all cursor, as a resync gives it."""
        from nestrel.client.follow import FollowAll

        return FollowAll(self._base_url, self._transport.token, cursor, on_rewound)

    def follow_everything(
        self,
        kind: str | None = None,
        cursor: str | None = None,
        *,
        on_rewound: Callable[[], Awaitable[None]] | None = None,
    ) -> FollowEverything:
        """The same of every conversation of the store, or of every one of a kind, for a trusted backend. `cursor` is
        one that such a follow has had."""
        from nestrel.client.follow import FollowEverything

        return FollowEverything(self._base_url, self._transport.token, kind, cursor, on_rewound)

    def live(self, conversation_id: str, *, newest: int = 50) -> LiveConversation:
        """A conversation as an object that stays current while its `async with` block runs: its newest messages,
        members and receipts, and the commands on them."""
        from nestrel.client.live import LiveConversation

        return LiveConversation(self, self._base_url, self._transport.token, conversation_id, newest)

    def replica(self, path: str | Path) -> SyncedReplica:
        """All of one's conversations in a SQLite file: readable with no network, kept current in an `async with` block,
        with an outbox for what is done while away."""
        from nestrel.client.replica.synced import SyncedReplica

        return SyncedReplica(path, self._base_url, self._transport)
