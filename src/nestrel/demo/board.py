"""A stand-in for the board of the Skerry Line's office: a receiver of the demo's webhook, which shows what it took."""

from __future__ import annotations

import hashlib
from collections import deque
from typing import Any
from uuid import UUID

from fastapi import APIRouter, Request
from starlette.responses import Response

from nestrel.client.receiving import NotSigned, received
from nestrel.core.callers import Caller
from nestrel.core.cursors import CursorSeal
from nestrel.core.webhooks import secret_of, secret_text
from nestrel.demo.scenario import OFFICE
from nestrel.service.sending import owner
from nestrel.store import snapshots
from nestrel.store.database import Database
from nestrel.store.read import webhooks as reading
from nestrel.store.write import webhooks

_SHOWN = 20
_ID = UUID("01a20000-0000-7000-8000-0000000b0a2d")


def secret(of: str) -> str:
    """The secret of the demo's webhook, from the demo's own."""
    return secret_text(hashlib.sha256(f"board {of}".encode()).digest())


def router(signed_with: str) -> APIRouter:
    """`POST /board` takes requests, `GET /board` shows the newest messages that came."""
    made = APIRouter()
    shown: deque[dict[str, Any]] = deque(maxlen=_SHOWN)

    @made.post("/board")
    async def take(request: Request) -> Response:
        try:
            said = received(signed_with, request.headers, await request.body())
        except NotSigned as error:
            return Response(f"{error}\n", 400)
        if said["type"] == "changes":
            shown.extend(message for item in said["data"]["items"] for message in item["messages"])
        return Response(status_code=204)

    @made.get("/board")
    async def show() -> list[dict[str, Any]]:
        return list(shown)

    return made


async def send_to(url: str, address: str, signed_with: str) -> None:
    """Have the demo's webhook lead to the board, wherever that is this time."""
    database, office = Database(url), Caller(OFFICE.user_id, service=True)
    try:
        async with database.read() as connection:
            known = [hook.id for hook, _ in (await reading.page(connection, 200, UUID(int=0)))[0]]
            now = await snapshots.now(connection)
        if _ID in known:
            await webhooks.change(database, office, _ID, address, None, secret_of(signed_with))
        else:
            cursor = CursorSeal(await database.secret("cursor")).all(owner(_ID), now)
            await webhooks.make(database, office, _ID, address, "changes", None, secret_of(signed_with), cursor)
    finally:
        await database.close()
