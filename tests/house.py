"""Conversations with somebody of each kind in and around them, and whoever calls the service about them."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from contextvars import ContextVar
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import asyncpg
import httpx
import pytest
from pydantic import SecretStr
from sqlalchemy.engine import make_url

from nestrel.core.rights import Relation, Who
from nestrel.core.roles import Kind, Role, Visibility
from nestrel.service.app import in_front, make_app
from nestrel.service.settings import Settings
from tests.support import SECRET, once, token, unique

ROLES = {Who.OWNER: "owner", Who.MODERATOR: "moderator", Who.WRITER: "writer", Who.READER: "reader"}
STATEMENTS: ContextVar[list[str] | None] = ContextVar("statements", default=None)
"""What the call that is under way has asked of the database, where that is counted."""


@dataclass
class Place:
    """A conversation with somebody of each kind; `people` are their user ids."""

    id: str
    kind: Kind
    visibility: Visibility
    people: dict[Who, str]
    attachment: str = ""
    report: str = ""
    seqs: dict[Who, int] = field(default_factory=dict)
    removed: int = 0

    def standing(self, who: Who) -> Relation:
        role = Role(ROLES[who]) if who in ROLES else None
        return Relation(self.kind, self.visibility, role, who is Who.BACKEND, who is Who.KEPT_OUT)

    def present(self) -> list[Who]:
        """Who there can be."""
        never = {Who.STRANGER} if self.visibility is Visibility.OPEN else {Who.PASSER_BY}
        if self.kind is Kind.DIRECT:
            never |= {Who.OWNER, Who.MODERATOR, Who.READER, Who.KEPT_OUT}
        return [who for who in Who if who not in never]


class House:
    """The service within this process, so that what each call asks of the database can be counted."""

    def __init__(self, http: httpx.AsyncClient, url: str = "") -> None:
        self.http = http
        self._url = url
        self._cookies: dict[str, str] = {}

    async def call(
        self, user: str, method: str, path: str, body: Any = None, *, backend: bool = False, bearer: str = "",
        cookie: bool = False,
    ) -> httpx.Response:  # fmt: skip
        bearer = bearer or (token(user, scope="nestrel.service") if backend else token(user))
        headers = {"Authorization": f"Bearer {bearer}", "X-Request-ID": "r"}
        if cookie:
            if user not in self._cookies:
                made = await self.http.post("/v1/session", headers=headers)
                self._cookies[user] = made.headers["set-cookie"].partition(";")[0]
                self.http.cookies.clear()
            headers = {"Cookie": self._cookies[user], "Origin": "http://127.0.0.1", "X-Request-ID": "r"}
        return await self.http.request(method, f"/v1{path}", json=body, headers=headers)

    async def counted(self, *args: Any, **options: Any) -> tuple[httpx.Response, list[str]]:
        """An answer, and the statements that it took."""
        asked: list[str] = []
        mark = STATEMENTS.set(asked)
        try:
            return await self.call(*args, **options), asked
        finally:
            STATEMENTS.reset(mark)

    async def place(self, kind: Kind, visibility: Visibility) -> Place:
        """A new conversation, with a message of each who writes."""
        people = {who: unique(who.value.replace(" ", "-")) for who in Who}
        office = people[Who.BACKEND]
        place = await self.another(Place("", kind, visibility, people), attachment=False)
        here = f"/conversations/{place.id}"
        for who in place.present():
            await self.call(people[who], "GET", "/me")  # who is seen for the first time is asked about once more
            body = {"body": f"of {who}", "on_behalf_of": people[who]}
            place.seqs[who] = (await self.call(office, "POST", f"{here}/messages", body, backend=True)).json()["seq"]
        said = await self.call(office, "POST", f"{here}/messages", body, backend=True)
        place.removed = said.json()["seq"]
        await self.call(office, "DELETE", f"{here}/messages/{place.removed}", backend=True)
        await self.bear(place, people[Who.WRITER] if kind is Kind.DIRECT else people[Who.OWNER])
        return place

    async def another(self, place: Place, *, attachment: bool) -> Place:
        """A conversation like this one, of the same people, with nothing said in it; with a message that bears a file
        where that is asked for."""
        people, direct = place.people, place.kind is Kind.DIRECT
        office = people[Who.BACKEND]
        maker = people[Who.WRITER] if direct else people[Who.OWNER]
        wanted = {"kind": place.kind, "members": [unique("other")] if direct else []}
        if not direct:
            wanted["visibility"] = place.visibility
        made = Place((await self.call(maker, "POST", "/conversations", wanted)).json()["id"], place.kind,
                     place.visibility, people)  # fmt: skip
        here = f"/conversations/{made.id}"
        if not direct:
            for who in (Who.MODERATOR, Who.WRITER, Who.READER):
                role = {"role": ROLES[who]}
                added = await self.call(office, "PUT", f"{here}/members/{people[who]}", role, backend=True)
                assert added.status_code == 201, added.text
            kept = await self.call(office, "PUT", f"{here}/kept-out/{people[Who.KEPT_OUT]}", {}, backend=True)
            assert kept.status_code == 201
        if attachment:
            await self.bear(made, maker)
        return made

    async def bear(self, place: Place, maker: str) -> None:
        """Post a message with a file."""
        here = f"/conversations/{place.id}"
        sent = await self.http.post(
            f"/v1{here}/attachments", content=b"plan", headers={"Authorization": f"Bearer {token(maker)}"}
        )
        place.attachment = sent.json()["attachment_id"]
        await self.call(maker, "POST", f"{here}/messages", {"body": "", "attachments": [place.attachment]})

    async def end(self, place: Place) -> None:
        """Close a conversation. What it held is taken away in the background, under its lock, which a command waits
        for: until that is done."""
        office, here = place.people[Who.BACKEND], f"/conversations/{place.id}"
        assert (await self.call(office, "DELETE", here, backend=True)).status_code == 204
        connection = await asyncpg.connect(make_url(self._url).render_as_string(hide_password=False))

        async def erased() -> bool:
            return bool(
                await connection.fetchval("SELECT erased FROM nestrel.conversations WHERE id = $1::uuid", place.id)
            )

        try:
            await once(erased, bool)
        finally:
            await connection.close()

    async def was_member(self, place: Place, who: Who) -> None:
        """Somebody has been in a conversation, said something, and was dismissed; whoever is kept out still is."""
        user, office = place.people[who], place.people[Who.BACKEND]
        here = f"/conversations/{place.id}"
        if who is Who.KEPT_OUT:
            await self.call(office, "DELETE", f"{here}/kept-out/{user}", backend=True)
        added = await self.call(office, "PUT", f"{here}/members/{user}", {}, backend=True)
        assert added.status_code == 201, added.text
        assert (await self.call(user, "PUT", f"{here}/receipt", {"read_seq": 1})).status_code == 200
        assert (await self.call(office, "DELETE", f"{here}/members/{user}", backend=True)).status_code == 204
        if who is Who.KEPT_OUT:
            kept = await self.call(office, "PUT", f"{here}/kept-out/{user}", {}, backend=True)
            assert kept.status_code == 201, kept.text

    async def at_odds(self, place: Place, who: Who) -> None:
        """Somebody and all others have blocked each other."""
        user = place.people[who]
        for other in place.people.values():
            if other != user:
                for one, two in ((user, other), (other, user)):
                    assert (await self.call(one, "PUT", f"/me/blocked/{two}")).status_code in (200, 201)


@asynccontextmanager
async def in_process(url: str, folder: Path, monkeypatch: pytest.MonkeyPatch) -> AsyncIterator[House]:
    """A house on a database, whose files are in a folder."""
    fetch = asyncpg.Connection.fetch

    async def counting(self: Any, sql: str, *args: Any, **options: Any) -> Any:
        asked = STATEMENTS.get()
        if asked is not None:
            asked.append(sql)
        return await fetch(self, sql, *args, **options)

    monkeypatch.setattr(asyncpg.Connection, "fetch", counting)
    settings = Settings(database_url=url, jwt_secret=SecretStr(SECRET), files=str(folder), search=False)
    app = make_app(settings)
    async with app.router.lifespan_context(app):
        transport = httpx.ASGITransport(in_front(app))
        async with httpx.AsyncClient(transport=transport, base_url="http://127.0.0.1") as http:
            yield House(http, url)
