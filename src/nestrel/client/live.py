"""A conversation as an object that stays current."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable
from types import TracebackType
from typing import Any

from nestrel.client.conversations import ConversationCalls
from nestrel.client.follow import ConnectionState, Follow, FollowState, Unfollowed
from nestrel.client.transport import TokenSource
from nestrel.core.objects import Conversation, Member, Message, Receipt
from nestrel.core.problems import NestrelError
from nestrel.core.replica import Replica
from nestrel.core.symbols import LIKE


class LiveConversation:
    """A replica of one conversation, fed by a follow in the background, and the commands on it.

    Use it in an `async with` block. What a command answers is in the replica when it returns; what others do comes by
    itself. `state` says how the line is; `error` is what ended the follow, if the service refused it.
    """

    def __init__(
        self, client: ConversationCalls, base_url: str, token: TokenSource, conversation_id: str, newest: int
    ) -> None:
        self.replica = Replica(conversation_id)
        self.error: NestrelError | None = None
        self._client = client
        self._base_url = base_url
        self._token = token
        self._newest = newest
        self._follow: Follow | None = None
        self._task: asyncio.Task[None] | None = None
        self._moved = asyncio.Condition()

    async def __aenter__(self) -> LiveConversation:
        cursor = await self._begin()
        self._follow = Follow(self._base_url, self._token, self.id, cursor, self._begin_anew)
        self._task = asyncio.create_task(self._keep(self._follow))
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        assert self._task is not None
        self._task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await self._task

    async def _begin(self) -> str:
        """Fetch the newest part; returns where to follow from."""
        changes = await self._client.changes(self.id, limit=self._newest)
        self.replica.apply(changes)
        while changes.more:
            changes = await self._client.changes(self.id, changes.cursor)
            self.replica.apply(changes)
        return changes.cursor

    async def _begin_anew(self) -> None:
        """The store was restored or failed over: answers and pages that are held may be of what is lost."""
        self.replica.begin_anew()
        await self._begin()

    async def _keep(self, follow: Follow) -> None:
        async with follow:
            try:
                async for event in follow:
                    if not isinstance(event, Unfollowed):
                        self.replica.apply(event)
                    await self._tell()
            except NestrelError as error:
                self.error = error
        await self._tell()

    async def _tell(self) -> None:
        async with self._moved:
            self._moved.notify_all()

    @property
    def id(self) -> str:
        return self.replica.conversation_id

    @property
    def state(self) -> ConnectionState:
        return self._follow.state if self._follow is not None else ConnectionState(FollowState.CONNECTING)

    @property
    def conversation(self) -> Conversation | None:
        return self.replica.conversation

    @property
    def messages(self) -> list[Message]:
        """The messages held, oldest first; `older` loads more."""
        return self.replica.ordered()

    @property
    def members(self) -> list[Member]:
        """Those who are members now, each with the receipt."""
        return self.replica.present()

    async def until(self, condition: Callable[[Replica], bool]) -> None:
        """Wait until the replica is as wanted; for a limit in time, `asyncio.timeout`.

        Raises:
            NestrelError: the follow has ended before.
        """
        async with self._moved:
            while not condition(self.replica):
                if self._task is not None and (self._task.done() or self.state.state is FollowState.ENDED):
                    raise self.error or NestrelError(f"the conversation is not followed any more: {self.state.reason}")
                await self._moved.wait()

    async def older(self, limit: int = 50) -> list[Message]:
        """Load the page before the oldest message held; empty when there is none."""
        while True:
            oldest, generation = min(self.replica.messages, default=self.replica.head + 1), self.replica.generation
            page = await self._client.history_page(self.id, before=oldest, limit=limit)
            if self.replica.generation == generation:
                self.replica.add(page)
                return page.items

    async def post(self, body: str, **options: Any) -> Message:
        """See `AsyncClient.post`."""
        return self._held(await self._client.post(self.id, body, **options))

    async def edit(self, seq: int, body: str, **options: Any) -> Message:
        """See `AsyncClient.edit`."""
        return self._held(await self._client.edit(self.id, seq, body, **options))

    async def remove(self, seq: int) -> Message:
        return self._held(await self._client.remove(self.id, seq))

    async def react(self, seq: int, symbol: str = LIKE) -> Message:
        return self._held(await self._client.react(self.id, seq, symbol))

    async def unreact(self, seq: int, symbol: str = LIKE) -> Message:
        return self._held(await self._client.unreact(self.id, seq, symbol))

    async def read(self, read_seq: int) -> Receipt:
        return await self._client.read(self.id, read_seq)

    async def looking(self, *, here: bool = True) -> None:
        """Say that the member has it on the screen, or no more: nobody notifies them of what is posted. It counts for
        60 s, and is lost where the line is away."""
        if self._follow is not None:
            await self._follow.looking(self.id if here else None)

    async def writing(self) -> None:
        """Tell those who follow it that the member is writing."""
        if self._follow is not None:
            await self._follow.writing(self.id)

    def _held(self, message: Message) -> Message:
        self.replica.put(message)
        return message
