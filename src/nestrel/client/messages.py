"""The calls on messages: post, history, and all that happens to a message after."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterable, Sequence
from datetime import datetime
from typing import Any, Literal
from urllib.parse import quote
from uuid import uuid4

from nestrel.client.transport import Transport
from nestrel.core.kept_objects import ArchivePage
from nestrel.core.objects import (
    Attachment,
    EarlierBody,
    EditPage,
    HistoryPage,
    InvitationPage,
    MemberPage,
    Message,
    MessageBatch,
    Reacted,
    ReactionPage,
    Reader,
    ReaderPage,
    Receipt,
)
from nestrel.core.symbols import LIKE
from nestrel.core.times import format_time

_Page = (
    type[ArchivePage] | type[EditPage] | type[InvitationPage] | type[MemberPage] | type[ReactionPage] | type[ReaderPage]
)


def path(conversation_id: str, *rest: str) -> str:
    """The address of something in a conversation."""
    return "/".join(["/conversations", *(quote(part, safe="") for part in (conversation_id, *rest))])


def _ids(attachments: Sequence[Attachment | str]) -> list[str]:
    return [one if isinstance(one, str) else one.attachment_id for one in attachments]


class MessageCalls:
    """The part of `AsyncClient` that is about messages."""

    def __init__(self, transport: Transport) -> None:
        self._transport = transport

    async def _get(self, where: str, **params: Any) -> Any:
        return await self._transport.json("GET", where, params=params, repeatable=True)

    async def _listed(self, page: _Page, *where: str, **params: Any) -> AsyncIterator[Any]:
        """Every item of a plain list, page by page."""
        cursor = None
        while True:
            query = {"limit": 200, **params, "cursor": cursor} if cursor is None else {"limit": 200, "cursor": cursor}
            found = page.model_validate(await self._get(path(*where), **query))
            for item in found.items:
                yield item
            if (cursor := found.next) is None:
                return

    async def post(
        self,
        conversation_id: str,
        body: str,
        *,
        key: str | None = None,
        format: Literal["plain", "markdown"] = "plain",
        attributes: dict[str, Any] | None = None,
        reply_to: int | None = None,
        mentions: Sequence[str] = (),
        attachments: Sequence[Attachment | str] = (),
        on_behalf_of: str | None = None,
    ) -> Message:
        """Post a message and return it once it is durable. With `attachments`, which were uploaded before, it may have
        no body ("").

        Sent again with the same idempotency key until there is an answer, so it is posted once. `key` is one's own;
        without it a new one is made for this call.
        """
        content: dict[str, Any] = {"body": body, "format": format, "attributes": attributes or {}}
        content |= {"reply_to": reply_to, "on_behalf_of": on_behalf_of}
        if mentions:
            content["mentions"] = list(mentions)
        if attachments:
            content["attachments"] = _ids(attachments)
        headers = {b"Idempotency-Key": (key or str(uuid4())).encode()}
        where = path(conversation_id, "messages")
        answer = await self._transport.json("POST", where, body=content, headers=headers, repeatable=True)
        return Message.model_validate(answer)

    async def post_batch(self, conversation_id: str, messages: Iterable[dict[str, Any]]) -> list[Message]:
        """Post up to 500 messages, all or none; each a dictionary with `body` and, if it is to be one's own, `key`."""
        body = {"messages": [{"key": str(uuid4()), **message} for message in messages]}
        where = path(conversation_id, "messages", "batch")
        answer = await self._transport.json("POST", where, body=body, repeatable=True)
        return MessageBatch.model_validate(answer).items

    async def message(self, conversation_id: str, seq: int) -> Message:
        return Message.model_validate(await self._get(path(conversation_id, "messages", str(seq))))

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
        return HistoryPage.model_validate(await self._get(path(conversation_id, "messages"), **params))

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

    # After it is posted

    async def edit(
        self,
        conversation_id: str,
        seq: int,
        body: str,
        *,
        format: Literal["plain", "markdown"] | None = None,
        mentions: Sequence[str] | None = None,
        attachments: Sequence[Attachment | str] | None = None,
        rev: int | None = None,
    ) -> Message:
        """Give a message of one's own a new body; `format`, `mentions` and `attachments` None keep the present ones.

        Raises:
            StaleEdit: with `rev`, the message has changed since; `extra["message"]` is it as it stands.
            Forbidden: it is someone else's, has been removed, or the edit window is over.
        """
        content: dict[str, Any] = {"body": body} if format is None else {"body": body, "format": format}
        if mentions is not None:
            content["mentions"] = list(mentions)
        if attachments is not None:
            content["attachments"] = _ids(attachments)
        headers = {b"If-Match": f'"{rev}"'.encode()} if rev is not None else None
        where = path(conversation_id, "messages", str(seq))
        # An edit that names a rev is not repeated: the repeat of one that arrived would look stale.
        answer = await self._transport.json("PATCH", where, body=content, headers=headers, repeatable=rev is None)
        return Message.model_validate(answer)

    async def remove(self, conversation_id: str, seq: int) -> Message:
        """Take a message away; returns the tombstone, also when it was removed before."""
        where = path(conversation_id, "messages", str(seq))
        return Message.model_validate(await self._transport.json("DELETE", where, repeatable=True))

    async def react(self, conversation_id: str, seq: int, symbol: str = LIKE) -> Message:
        """Set one's reaction, `like` or one emoji; setting it again changes nothing."""
        where = path(conversation_id, "messages", str(seq), "reactions", symbol)
        return Message.model_validate(await self._transport.json("PUT", where, repeatable=True))

    async def unreact(self, conversation_id: str, seq: int, symbol: str = LIKE) -> Message:
        """Take one's reaction back."""
        where = path(conversation_id, "messages", str(seq), "reactions", symbol)
        return Message.model_validate(await self._transport.json("DELETE", where, repeatable=True))

    async def read(self, conversation_id: str, read_seq: int) -> Receipt:
        """Move one's receipt, which only grows."""
        where = path(conversation_id, "receipt")
        answer = await self._transport.json("PUT", where, body={"read_seq": read_seq}, repeatable=True)
        return Receipt.model_validate(answer)

    async def edits(self, conversation_id: str, seq: int) -> AsyncIterator[EarlierBody]:
        """Earlier bodies of a message, oldest first."""
        async for item in self._listed(EditPage, conversation_id, "messages", str(seq), "edits"):
            yield item

    async def reactions(self, conversation_id: str, seq: int, symbol: str | None = None) -> AsyncIterator[Reacted]:
        """Who reacted, by symbol and user id."""
        where = (conversation_id, "messages", str(seq), "reactions")
        async for item in self._listed(ReactionPage, *where, symbol=symbol):
            yield item

    async def readers(self, conversation_id: str, seq: int) -> AsyncIterator[Reader]:
        """The members whose receipt has reached a message, by user id."""
        async for item in self._listed(ReaderPage, conversation_id, "messages", str(seq), "readers"):
            yield item
