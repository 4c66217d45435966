"""The calls about people, conversations, members and invitations."""

from __future__ import annotations

from collections.abc import AsyncIterator, Iterable
from datetime import datetime
from typing import Any, Literal
from urllib.parse import quote
from uuid import UUID, uuid4

from nestrel.client.messages import path
from nestrel.client.notices import NoticeCalls
from nestrel.core.objects import (
    ChangeSet,
    Conversation,
    ConversationPage,
    Hit,
    Invitation,
    InvitationPage,
    Invited,
    Me,
    Member,
    MemberPage,
    PeoplePage,
    Profile,
    SaidPage,
    SearchPage,
)
from nestrel.core.problems import NotFound
from nestrel.core.times import format_time


class ConversationCalls(NoticeCalls):
    """The part of `AsyncClient` that is about people and conversations."""

    # Profile

    async def me(self) -> Me:
        """One's own profile, and how much one has not read in all."""
        return Me.model_validate(await self._get("/me"))

    async def person(self, user_id: str) -> Profile:
        """The profile of someone whom one can see.

        Raises:
            NotFound: there is nobody such.
        """
        return Profile.model_validate(await self._get(f"/people/{quote(user_id, safe='')}"))

    async def people(self, q: str = "", *, everyone: bool = False) -> AsyncIterator[Profile]:
        """Whom one can see, by the beginning of any word of their name or id; all of them without `q`. `everyone` of
        the service is for a trusted backend; without `q` in the order of ids."""
        cursor = None
        first = {"limit": 200, "q": q, "scope": "all" if everyone else None}
        while True:
            query: dict[str, Any] = first if cursor is None else {"limit": 200, "cursor": cursor}
            page = PeoplePage.model_validate(await self._get("/people", **query))
            for item in page.items:
                yield item
            if (cursor := page.next) is None:
                return

    async def search_page(
        self,
        q: str | None = None,
        *,
        conversation_id: str | None = None,
        author: str | None = None,
        since: datetime | None = None,
        until: datetime | None = None,
        limit: int = 50,
        cursor: str | None = None,
    ) -> SearchPage:
        """One page of messages that have all words of `q`, newest first; `next` continues it, also where it is short.
        `"a phrase"`, `begin*`, and `-` before what must not be there."""
        params = {
            "q": q,
            "conversation_id": conversation_id,
            "author": author,
            "from": format_time(since) if since else None,
            "to": format_time(until) if until else None,
            "limit": limit,
            "cursor": cursor,
        }
        return SearchPage.model_validate(await self._get("/search", **params))

    async def search(self, q: str, **query: Any) -> AsyncIterator[Hit]:
        """Every hit, page by page; `query` as for `search_page`."""
        page = await self.search_page(q, **query)
        while True:
            for item in page.items:
                yield item
            if page.next is None:
                return
            page = await self.search_page(limit=query.get("limit", 50), cursor=page.next)

    async def said_page(
        self,
        user_id: str,
        *,
        limit: int = 50,
        order: Literal["desc", "asc"] | None = None,
        cursor: str | None = None,
    ) -> SaidPage:
        """One page of what someone has said in one's own conversations; `older` and `newer` continue it."""
        where = f"/people/{quote(user_id, safe='')}/messages"
        return SaidPage.model_validate(await self._get(where, limit=limit, order=order, cursor=cursor))

    async def change_me(self, **fields: str | None) -> Me:
        """Change `display_name` or `picture`."""
        return Me.model_validate(await self._transport.json("PATCH", "/me", body=fields, repeatable=True))

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
        retention: dict[str, Any] | None = None,
        key: str | None = None,
    ) -> Conversation:
        """Make a conversation and become its owner; for a `direct` one that exists already, that one. A trusted backend
        that names two others makes a direct one of them. `retention` is a rule as for `set_retention`.

        Sent again with the same idempotency key until there is an answer, so it is made once. `key` is one's own, which
        stands for 24 hours; without it a new one is made for this call.
        """
        body: dict[str, Any] = {"title": title, "kind": kind, "members": list(members), "attributes": attributes or {}}
        if retention is not None:
            body["retention"] = retention
        if kind != "direct":
            body |= {"name": name, "visibility": visibility}
        headers = {b"Idempotency-Key": (key or str(uuid4())).encode()}
        answer = await self._transport.json("POST", "/conversations", body=body, headers=headers, repeatable=True)
        return Conversation.model_validate(answer)

    async def conversation(self, conversation_id: str) -> Conversation:
        return Conversation.model_validate(await self._get(path(conversation_id)))

    async def conversations_page(
        self,
        scope: Literal["mine", "open", "all"] = "mine",
        *,
        limit: int = 50,
        cursor: str | None = None,
        name: str | None = None,
        member: str | None = None,
        q: str | None = None,
    ) -> ConversationPage:
        """One page; `next` continues it. `all` is for a trusted backend, as are `member` and `q`, which go with it."""
        if cursor is not None:
            return ConversationPage.model_validate(await self._get("/conversations", limit=limit, cursor=cursor))
        params = {"scope": scope, "limit": limit, "name": name, "member": member, "q": q}
        return ConversationPage.model_validate(await self._get("/conversations", **params))

    async def conversations(
        self, scope: Literal["mine", "open", "all"] = "mine", **query: str | None
    ) -> AsyncIterator[Conversation]:
        """Every conversation of a scope, page by page; `query` as for `conversations_page`."""
        page = await self.conversations_page(scope, limit=200, **query)
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
        answer = await self._transport.json("PATCH", path(conversation_id), body=fields, repeatable=True)
        return Conversation.model_validate(answer)

    async def close_conversation(self, conversation_id: str) -> None:
        """Close it for good, for everyone."""
        await self._transport.json("DELETE", path(conversation_id))

    # Members

    async def members(self, conversation_id: str) -> AsyncIterator[Member]:
        """Every member, by user id."""
        async for item in self._listed(MemberPage, conversation_id, "members"):
            yield item

    async def join(self, conversation_id: str) -> Member:
        """Join an open conversation."""
        return await self.put_member(conversation_id, "me")

    async def put_member(self, conversation_id: str, user_id: str, role: str | None = None) -> Member:
        """Add a member, or make sure that someone is one."""
        body = {"role": role} if role else {}
        where = path(conversation_id, "members", user_id)
        return Member.model_validate(await self._transport.json("PUT", where, body=body, repeatable=True))

    async def change_member(self, conversation_id: str, user_id: str, role: str) -> Member:
        where = path(conversation_id, "members", user_id)
        answer = await self._transport.json("PATCH", where, body={"role": role}, repeatable=True)
        return Member.model_validate(answer)

    async def remove_member(self, conversation_id: str, user_id: str = "me") -> None:
        """Leave, or remove someone."""
        await self._transport.json("DELETE", path(conversation_id, "members", user_id))

    # Invitations

    async def invite(
        self,
        conversation_id: str,
        *,
        role: Literal["owner", "moderator", "writer", "reader"] | None = None,
        uses: int | None = None,
        expires_in: int | None = None,
    ) -> Invitation:
        """Make an invitation to a role no higher than one's own, which works so often and for so many seconds. Its
        `token` is in this answer alone; whoever has it can join."""
        wanted = {"role": role, "uses": uses, "expires_in": expires_in}
        body = {name: value for name, value in wanted.items() if value is not None}
        answer = await self._transport.json("POST", path(conversation_id, "invitations"), body=body)
        return Invitation.model_validate(answer)

    async def invitations(self, conversation_id: str) -> AsyncIterator[Invitation]:
        """The invitations of a conversation, the oldest first, without their tokens."""
        async for item in self._listed(InvitationPage, conversation_id, "invitations"):
            yield item

    async def revoke(self, conversation_id: str, invitation_id: str) -> None:
        """Take an invitation back."""
        where = path(conversation_id, "invitations", invitation_id)
        await self._transport.json("DELETE", where, repeatable=True)

    async def invited(self, token: str) -> Invited:
        """What an invitation leads to. Raises `Expired` for one that is used up or past its time."""
        return Invited.model_validate(await self._get(f"/invitations/{quote(token, safe='')}"))

    async def accept(self, token: str) -> Conversation:
        """Join by an invitation; who is a member already uses nothing up."""
        where = f"/invitations/{quote(token, safe='')}/accept"
        return Conversation.model_validate(await self._transport.json("POST", where, repeatable=True))

    # Changes

    async def changes(self, conversation_id: str, cursor: str | None = None, *, limit: int = 200) -> ChangeSet:
        """What changed since a change cursor; without one, the newest page with `reset`."""
        answer = await self._get(path(conversation_id, "changes"), cursor=cursor, limit=limit)
        return ChangeSet.model_validate(answer)
