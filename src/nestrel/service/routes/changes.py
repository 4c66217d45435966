"""What changed in a conversation since a cursor."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query
from starlette.responses import Response

from nestrel.core.objects import ChangeSet
from nestrel.core.problems import Forbidden
from nestrel.service.addressing import addressed
from nestrel.service.http import CallerDep, JsonRoute, ServiceDep, documented
from nestrel.service.listing import opened
from nestrel.service.models import ChangesQuery
from nestrel.store import changes
from nestrel.store.access import not_found, see

router = APIRouter(prefix="/conversations/{conversation_id}", route_class=JsonRoute, tags=["changes"])


@router.get("/changes", responses=documented(ChangeSet))
async def read(
    conversation_id: UUID, query: Annotated[ChangesQuery, Query()], service: ServiceDep, caller: CallerDep
) -> Response:
    """One change set; without a cursor, the conversation's newest page with `reset`. `more` says to ask again."""
    start = None
    if query.cursor is not None:
        start = opened(service.seal.open_conversation, caller.user_id, conversation_id, query.cursor)
    async with service.database.read() as connection:
        access = await see(connection, conversation_id, caller)
        if not access.standing.may_follow:
            raise Forbidden("only members follow a conversation; join it first")
        if start is None:
            found = await changes.newest(connection, conversation_id, query.limit)
        else:
            found = await changes.since(connection, conversation_id, start, query.limit)
    if found is None or found.closed:
        raise not_found(conversation_id)
    _, text = addressed(service.seal, caller.user_id, found.start, found.end, conversation_id, found.tail())
    return Response(text, media_type="application/json")
