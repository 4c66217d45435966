"""The asynchronous client."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterable
from datetime import datetime
from types import TracebackType
from typing import Any, Literal
from urllib.parse import quote
from uuid import UUID, uuid4

import httpx

from nestrel.client.follow import Follow
from nestrel.client.transport import TokenSource, Transport
from nestrel.core.objects import (
    ChangeSet,
    Conversation,
    ConversationPage,
    HistoryPage,
    Member,
    MemberPage,
    Message,
    MessageBatch,
    Profile,
)
from nestrel.core.problems import NotFound
from nestrel.core.times import format_time


class AsyncClient:
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
        self._base_url = base_url
        self._transport = Transport(base_url, token, tries=max(1, tries), timeout=timeout, transport=transport)

    async def __aenter__(self) -> AsyncClient:
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.close()

    async def close(self) -> None:
        await self._transport.close()

    async def _get(self, path: str, **params: Any) -> Any:
        return await self._transport.json("GET", path, params=params, repeatable=True)

    # Profile

    async def me(self) -> Profile:
        """One's own profile."""
        return Profile.model_validate(await self._get("/me"))

    async def change_me(self, **fields: str | None) -> Profile:
        """Change `display_name` or `picture`."""
        return Profile.model_validate(await self._transport.json("PATCH", "/me", body=fields, repeatable=True))

    # Conversations

    async def make_conversation(
        self,
        *,
        name: str | None = None,
        title: str = "",
        kind: str = "group",
        visibility: str = "closed",
        members: Iterable[str] = (),
        attributes: dict[str, Any] | None = None,
    ) -> Conversation:
        """Make a conversation and become its owner; for a `direct` one that exists already, that one.

        Not repeated by itself: a named or direct one can safely be made again by the caller.
        """
        body: dict[str, Any] = {"title": title, "kind": kind, "members": list(members), "attributes": attributes or {}}
        if kind != "direct":
            body |= {"name": name, "visibility": visibility}
        return Conversation.model_validate(await self._transport.json("POST", "/conversations", body=body))

    async def conversation(self, conversation_id: str) -> Conversation:
        return Conversation.model_validate(await self._get(_path(conversation_id)))

    async def conversations_page(
        self,
        scope: Literal["mine", "open"] = "mine",
        *,
        limit: int = 50,
        cursor: str | None = None,
        name: str | None = None,
    ) -> ConversationPage:
        """One page; `next` continues it."""
        if cursor is not None:
            return ConversationPage.model_validate(await self._get("/conversations", limit=limit, cursor=cursor))
        params = {"scope": scope, "limit": limit, "name": name}
        return ConversationPage.model_validate(await self._get("/conversations", **params))

    async def conversations(self, scope: Literal["mine", "open"] = "mine") -> AsyncIterator[Conversation]:
        """Every conversation of a scope, page by page."""
        page = await self.conversations_page(scope, limit=200)
        while True:
            for item in page.items:
                yield item
            if page.next is None:
                return
            page = await self.conversations_page(limit=200, cursor=page.next)

    async def find(self, name_or_id: str) -> Conversation:
        """A conversation by id, or by name among one's own and then among the open ones.

        Raises:
            NotFound: there is none that one may see.
        """
        try:
            return await self.conversation(str(UUID(name_or_id)))
        except ValueError:
            pass
        for scope in ("mine", "open"):
            page = await self.conversations_page(scope, limit=1, name=name_or_id)
            if page.items:
                return page.items[0]
        raise NotFound(f"there is no conversation called {name_or_id!r} that you may see")

    async def change_conversation(self, conversation_id: str, **fields: Any) -> Conversation:
        """Change some of `title`, `name`, `visibility`, `attributes`."""
        answer = await self._transport.json("PATCH", _path(conversation_id), body=fields, repeatable=True)
        return Conversation.model_validate(answer)

    async def close_conversation(self, conversation_id: str) -> None:
        """Close it for good, for everyone."""
        await self._transport.json("DELETE", _path(conversation_id))

    # Members

    async def members(self, conversation_id: str) -> AsyncIterator[Member]:
        """Every member, by user id."""
        cursor = None
        while True:
            answer = await self._get(_path(conversation_id, "members"), limit=200, cursor=cursor)
            page = MemberPage.model_validate(answer)
            for item in page.items:
                yield item
            if (cursor := page.next) is None:
                return

    async def join(self, conversation_id: str) -> Member:
        """Join an open conversation."""
        return await self.put_member(conversation_id, "me")

    async def put_member(self, conversation_id: str, user_id: str, role: str | None = None) -> Member:
        """Add a member, or make sure that someone is one."""
        body = {"role": role} if role else {}
        path = _path(conversation_id, "members", user_id)
        return Member.model_validate(await self._transport.json("PUT", path, body=body, repeatable=True))

    async def change_member(self, conversation_id: str, user_id: str, role: str) -> Member:
        path = _path(conversation_id, "members", user_id)
        answer = await self._transport.json("PATCH", path, body={"role": role}, repeatable=True)
        return Member.model_validate(answer)

    async def remove_member(self, conversation_id: str, user_id: str = "me") -> None:
        """Leave, or remove someone."""
        await self._transport.json("DELETE", _path(conversation_id, "members", user_id))

    # Messages

    async def post(
        self,
        conversation_id: str,
        body: str,
        *,
        key: str | None = None,
        format: Literal["plain", "markdown"] = "plain",
        attributes: dict[str, Any] | None = None,
        reply_to: int | None = None,
        on_behalf_of: str | None = None,
    ) -> Message:
        """Post a message and return it once it is durable.

        Sent again with the same idempotency key until there is an answer, so it is posted once. `key` is one's own;
        without it a new one is made for this call.
        """
        content: dict[str, Any] = {"body": body, "format": format, "attributes": attributes or {}}
        content |= {"reply_to": reply_to, "on_behalf_of": on_behalf_of}
        headers = {b"Idempotency-Key": (key or str(uuid4())).encode()}
        path = _path(conversation_id, "messages")
        answer = await self._transport.json("POST", path, body=content, headers=headers, repeatable=True)
        return Message.model_validate(answer)

    async def post_batch(self, conversation_id: str, messages: Iterable[dict[str, Any]]) -> list[Message]:
        """Post up to 500 messages, all or none; each a dictionary with `body` and, if it is to be one's own, `key`."""
        body = {"messages": [{"key": str(uuid4()), **message} for message in messages]}
        path = _path(conversation_id, "messages", "batch")
        answer = await self._transport.json("POST", path, body=body, repeatable=True)
        return MessageBatch.model_validate(answer).items

    async def message(self, conversation_id: str, seq: int) -> Message:
        return Message.model_validate(await self._get(_path(conversation_id, "messages", str(seq))))

    async def history_page(
        self,
        conversation_id: str,
        *,
        limit: int = 50,
        order: Literal["desc", "asc"] | None = None,
        cursor: str | None = None,
        before: int | None = None,
        after: int | None = None,
        around: int | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        author: str | None = None,
    ) -> HistoryPage:
        """One page; `older` and `newer` continue it as `cursor`, which stands for the whole query."""
        params = {
            "limit": limit,
            "order": order,
            "cursor": cursor,
            "before": before,
            "after": after,
            "around": around,
            "from": format_time(since) if since else None,
            "to": format_time(until) if until else None,
            "author": author,
        }
        return HistoryPage.model_validate(await self._get(_path(conversation_id, "messages"), **params))

    async def history(
        self, conversation_id: str, *, order: Literal["desc", "asc"] = "desc", page_size: int = 200, **query: Any
    ) -> AsyncIterator[Message]:
        """Messages one by one over any length, in `order`; `query` as for `history_page`.

        Messages posted meanwhile come along in `asc` and are not there in `desc`; none comes twice.
        """
        page = await self.history_page(conversation_id, order=order, limit=page_size, **query)
        while True:
            for item in page.items:
                yield item
            cursor = page.older if order == "desc" else page.newer
            if cursor is None:
                return
            page = await self.history_page(conversation_id, limit=page_size, cursor=cursor)

    # Changes

    async def changes(self, conversation_id: str, cursor: str | None = None, *, limit: int = 200) -> ChangeSet:
        """What changed since a change cursor; without one, the newest page with `reset`."""
        answer = await self._get(_path(conversation_id, "changes"), cursor=cursor, limit=limit)
        return ChangeSet.model_validate(answer)

    def follow(self, conversation_id: str, cursor: str | None = None) -> Follow:
        """Change sets as they commit, as an asynchronous iterator that reconnects by itself and resumes where it was.

        Without a cursor it begins with what comes from now on; a history page's `change_cursor` begins right after
        that page, with no hole and no double.
        """
        return Follow(self._base_url, self._transport.token, conversation_id, cursor)


def _path(conversation_id: str, *rest: str) -> str:
    return "/".join(["/conversations", *(quote(part, safe="") for part in (conversation_id, *rest))])
