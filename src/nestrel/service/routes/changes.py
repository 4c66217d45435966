"""What changed in a conversation since a cursor; at once, or when something does."""

from __future__ import annotations

import asyncio
import time
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request
from starlette.responses import Response

from nestrel.core.callers import Caller
from nestrel.core.cursors import ChangePosition
from nestrel.core.objects import ChangeSet
from nestrel.core.problems import Unauthenticated
from nestrel.core.rights import Action, no_conversation
from nestrel.live.channel import Follower
from nestrel.service.access import does
from nestrel.service.addressing import addressed
from nestrel.service.http import CallerDep, JsonRoute, ServiceDep, documented
from nestrel.service.listing import opened
from nestrel.service.models import ChangesQuery
from nestrel.service.state import Service
from nestrel.service.tokens import Identity
from nestrel.store.access import see
from nestrel.store.read import catch_up, changes
from nestrel.store.read.changes import Changes

router = APIRouter(prefix="/conversations/{conversation_id}", route_class=JsonRoute, tags=["changes"])


@router.get("/changes", responses=documented(ChangeSet))
@does(Action.FOLLOW)
async def read(
    conversation_id: UUID,
    query: Annotated[ChangesQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Response:
    """One change set; without a cursor, the conversation's newest page with `reset`. `more` says to ask again. With
    `wait`, a set in which nothing changed is held back until something does, or the time is over."""
    start = None
    if query.cursor is not None:
        start = opened(service.seal.open_conversation, caller.user_id, conversation_id, query.cursor)
    found = await _read(service, caller, conversation_id, start, query.limit)
    if query.wait and found.end == start and not service.draining:
        found = await _wait(service, caller, conversation_id, start, query, request.scope["nestrel.identity"])
    return Response(addressed(service.seal, caller.user_id, found), media_type="application/json")


async def _read(
    service: Service, caller: Caller, conversation_id: UUID, start: ChangePosition | None, limit: int
) -> Changes:
    async with service.database.read() as connection:
        access = await see(connection, conversation_id, caller, Action.FOLLOW)
        if start is not None and start == changes.position_of(access):
            return Changes(conversation_id, start, start, access.head, access.floor)
        if start is None:
            found = await catch_up.newest(connection, conversation_id, limit)
        else:
            most = service.settings.catch_up_rows
            found = await catch_up.since(connection, conversation_id, start, limit, most=most)
        # Again after the reading: whoever may see it now might when it was read.
        await see(connection, conversation_id, caller, Action.FOLLOW)
    if found is None or found.closed:
        raise no_conversation(conversation_id)
    return found


class _Waiter:
    """A request that waits for a conversation to move. `Listener` of the hub, and closed by the drain."""

    sending_since = None
    client = None
    connection = None

    def __init__(self, identity: Identity) -> None:
        self.identity = identity
        self.something = asyncio.Event()

    def wake(self, _follower: Follower) -> None:
        self.something.set()

    def end(self, _follower: Follower, _reason: str) -> None:
        self.something.set()

    def joined(self, _conversation_id: UUID) -> None:
        """Not of interest here."""

    def signalled(self, _follower: Follower, _signal: object) -> None:
        """Not of interest here."""

    def renewed(self) -> None:
        self.something.set()

    def close(self, _code: int, _reason: str) -> None:
        self.something.set()

    def drain(self) -> None:
        self.something.set()


async def _wait(
    service: Service,
    caller: Caller,
    conversation_id: UUID,
    start: ChangePosition,
    query: ChangesQuery,
    identity: Identity,
) -> Changes:
    """Read again whenever something moved, until there is a change to tell, or the time is over, or the token is. It
    listens before it reads, so nothing passes between."""
    seconds = identity.expires_at - time.time()
    waiter = _Waiter(identity)
    (follower,) = await service.hub.follow([conversation_id], caller.user_id, waiter)
    service.sessions.add(waiter)
    try:
        async with asyncio.timeout(min(query.wait, seconds)) as limit:
            while True:
                waiter.something.clear()
                service.bars.check(identity)
                found = await _read(service, caller, conversation_id, start, query.limit)
                if found.end != start or service.draining:
                    return found
                await waiter.something.wait()
    except TimeoutError:
        if not limit.expired():
            raise
        if seconds <= query.wait:
            raise Unauthenticated("the token has expired while this waited; get a new one") from None
        return await _read(service, caller, conversation_id, start, query.limit)
    finally:
        service.hub.unfollow(follower)
        service.left(waiter)
