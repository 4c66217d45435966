"""The calls about keeping order: who is kept out, blocked or suspended, what was reported, what was done and used."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import aclosing
from datetime import datetime
from typing import Any, Literal
from urllib.parse import quote

from nestrel.client.keeping import KeepingCalls
from nestrel.client.messages import path
from nestrel.core.objects import Member, Profile
from nestrel.core.order_objects import (
    AuditEntry,
    AuditPage,
    Blocked,
    BlockedPage,
    Connected,
    ConnectionPage,
    KeptOut,
    KeptOutPage,
    Report,
    ReportPage,
    ServiceStatus,
    SignedOut,
    Suspension,
    Usage,
    UsagePage,
)
from nestrel.core.times import format_time

_EXPORT_SECONDS = 300.0


def _person(user_id: str, *rest: str) -> str:
    return "/".join(["/people", quote(user_id, safe=""), *rest])


def _until(until: datetime | None, reason: str | None) -> dict[str, str]:
    wanted = {"until": None if until is None else format_time(until), "reason": reason}
    return {name: value for name, value in wanted.items() if value is not None}


class OrderCalls(KeepingCalls):
    """The part of `AsyncClient` that is about keeping order."""

    async def _every(self, page: type[Any], where: str, **params: Any) -> AsyncIterator[Any]:
        """Every item of a list, page by page."""
        async for found in self._pages(page, where, **params):
            for item in found.items:
                yield item

    async def _pages(self, page: type[Any], where: str, **params: Any) -> AsyncIterator[Any]:
        """Every page of a list."""
        cursor = None
        wanted = {name: value for name, value in params.items() if value is not None}
        while True:
            query = {**wanted, "limit": 200} if cursor is None else {"limit": 200, "cursor": cursor}
            found = page.model_validate(await self._get(where, **query))
            yield found
            if (cursor := found.next) is None:
                return

    # Of everyone, by a trusted backend

    async def put_person(self, user_id: str, *, display_name: str | None = None, picture: str | None = None) -> Profile:
        """Make somebody's profile before they sign in, or set what is given of the one that is there.

        Raises:
            NameTaken: names are one person's alone here, and this one is, or looks as, somebody else's.
        """
        given = {"display_name": display_name, "picture": picture}
        body = {field: value for field, value in given.items() if value is not None}
        return Profile.model_validate(await self._transport.json("PUT", _person(user_id), body=body, repeatable=True))

    # In a conversation

    async def keep_out(
        self, conversation_id: str, user_id: str, *, until: datetime | None = None, reason: str | None = None
    ) -> KeptOut:
        """Keep someone of a lower role out, until a time or for good; to them the conversation does not exist then."""
        where = path(conversation_id, "kept-out", user_id)
        answer = await self._transport.json("PUT", where, body=_until(until, reason), repeatable=True)
        return KeptOut.model_validate(answer)

    async def let_in(self, conversation_id: str, user_id: str) -> None:
        """Keep someone out no longer."""
        await self._transport.json("DELETE", path(conversation_id, "kept-out", user_id), repeatable=True)

    async def kept_out(self, conversation_id: str) -> AsyncIterator[KeptOut]:
        """Who is kept out now, by user id."""
        async for item in self._every(KeptOutPage, path(conversation_id, "kept-out")):
            yield item

    async def hide(self, conversation_id: str, *, hidden: bool = True) -> Member:
        """Leave a conversation out of one's own list until its next message, or take it in again."""
        where = path(conversation_id, "members", "me")
        answer = await self._transport.json("PATCH", where, body={"hidden": hidden}, repeatable=True)
        return Member.model_validate(answer)

    async def report(self, conversation_id: str, seq: int, reason: str) -> Report:
        """Tell those who judge of a message. What it says now stays readable to them for 30 days."""
        where = path(conversation_id, "messages", str(seq), "reports")
        return Report.model_validate(
            await self._transport.json("POST", where, body={"reason": reason}, repeatable=True)
        )

    async def reports(
        self, *, state: Literal["open", "done"] | None = None, conversation_id: str | None = None
    ) -> AsyncIterator[Report]:
        """The reports of conversations in which one judges, newest first; a backend's are all."""
        async for item in self._every(ReportPage, "/reports", state=state, conversation_id=conversation_id):
            yield item

    async def settle(self, report_id: str, state: Literal["open", "done"] = "done") -> Report:
        """Settle a report, or open it again."""
        where = f"/reports/{quote(report_id, safe='')}"
        return Report.model_validate(await self._transport.json("PATCH", where, body={"state": state}, repeatable=True))

    # Between people

    async def block(self, user_id: str) -> Blocked:
        """Block someone: no direct conversation with one another, no posts in one that exists, no being added."""
        where = f"/me/blocked/{quote(user_id, safe='')}"
        return Blocked.model_validate(await self._transport.json("PUT", where, repeatable=True))

    async def unblock(self, user_id: str) -> None:
        """Block someone no longer."""
        await self._transport.json("DELETE", f"/me/blocked/{quote(user_id, safe='')}", repeatable=True)

    async def blocked(self) -> AsyncIterator[Blocked]:
        """Whom one blocks, by user id."""
        async for item in self._every(BlockedPage, "/me/blocked"):
            yield item

    async def export_person(self, user_id: str = "me") -> AsyncIterator[bytes]:
        """All that someone wrote and all that is kept about them, a ZIP, in chunks as they come; one's own, or as a
        trusted backend anyone's."""
        sent = self._transport.stream("GET", _person(user_id, "export"), {}, _EXPORT_SECONDS)
        async with aclosing(sent):
            async for chunk in sent:
                yield chunk

    # As a trusted backend

    async def suspend(self, user_id: str, *, until: datetime | None = None, reason: str | None = None) -> Suspension:
        """Refuse every call of someone's, until a time or for good, and end their connections."""
        where = _person(user_id, "suspension")
        answer = await self._transport.json("PUT", where, body=_until(until, reason), repeatable=True)
        return Suspension.model_validate(answer)

    async def end_suspension(self, user_id: str) -> None:
        """Let someone in again."""
        await self._transport.json("DELETE", _person(user_id, "suspension"), repeatable=True)

    async def sign_out(self, user_id: str) -> SignedOut:
        """End all tokens that someone has, and their connections."""
        return SignedOut.model_validate(
            await self._transport.json("POST", _person(user_id, "sign-out"), repeatable=True)
        )

    async def connections(self, user_id: str | None = None) -> AsyncIterator[Connected]:
        """The open sockets and streams of all processes, or those of one person."""
        async for item in self._every(ConnectionPage, "/connections", user_id=user_id):
            yield item

    async def end_connection(self, connection_id: str) -> None:
        """End a connection, on whatever process it is."""
        await self._transport.json("DELETE", f"/connections/{quote(connection_id, safe='')}", repeatable=True)

    async def service(self) -> ServiceStatus:
        """What runs there: version, commit, revision of the schema and epoch of the database."""
        return ServiceStatus.model_validate(await self._get("/service"))

    async def usage(
        self,
        *,
        since: datetime | None = None,
        until: datetime | None = None,
        by: Literal["hour", "day"] = "hour",
        of: Literal["service", "conversation", "person"] = "service",
        id: str | None = None,
    ) -> AsyncIterator[Usage]:
        """What was used by hour or day, in order; the last seven days unless said otherwise."""
        times = {"from": since and format_time(since), "to": until and format_time(until)}
        async for item in self._every(UsagePage, "/usage", **times, by=by, of=of, id=id):
            yield item

    async def audit(
        self,
        *,
        since: datetime | None = None,
        until: datetime | None = None,
        actor: str | None = None,
        conversation_id: str | None = None,
    ) -> AsyncIterator[AuditEntry]:
        """What people with a role did to others, and what backends did for somebody, newest first."""
        pages = self.audit_pages(since=since, until=until, actor=actor, conversation_id=conversation_id)
        async for page in pages:
            for entry in page.items:
                yield entry

    async def audit_pages(
        self,
        *,
        since: datetime | None = None,
        until: datetime | None = None,
        actor: str | None = None,
        conversation_id: str | None = None,
    ) -> AsyncIterator[AuditPage]:
        """The same page by page, each with what its people and conversations are called."""
        times = {"from": since and format_time(since), "to": until and format_time(until)}
        async for page in self._pages(AuditPage, "/audit", **times, actor=actor, conversation_id=conversation_id):
            yield page
