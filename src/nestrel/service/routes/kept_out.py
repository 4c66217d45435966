"""Who is kept out of a conversation; for its owners and moderators."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request
from starlette.responses import Response

from nestrel.core import order_objects as objects
from nestrel.core.keeping_out import check_kind
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.listing import listed
from nestrel.service.models import ListQuery
from nestrel.service.order_models import Until, until_of
from nestrel.service.routes.members import UserPath, resolve
from nestrel.store.access import see
from nestrel.store.native import Connection
from nestrel.store.rows import Wire
from nestrel.store.write import keeping_out

router = APIRouter(prefix="/conversations/{conversation_id}/kept-out", route_class=JsonRoute, tags=["members"])


@router.get("", responses=documented(objects.KeptOutPage))
@does(Action.KEEP_OUT)
async def listing(
    conversation_id: UUID,
    query: Annotated[ListQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Json:
    """Who is kept out now, by user id."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        check_kind((await see(connection, conversation_id, caller, Action.KEEP_OUT)).standing)
        found, following = await keeping_out.page(connection, conversation_id, query.limit, after)
        return [one.wire() for one in found], following

    return await listed(request, service, caller, query, f"kept out {conversation_id}", read)


@router.put("/{user_id:path}", responses=documented(objects.KeptOut, s201=objects.KeptOut))
@does(Action.KEEP_OUT)
async def put(
    conversation_id: UUID, user_id: UserPath, service: ServiceDep, caller: CallerDep, wanted: Until | None = None
) -> Json:
    """Keep someone out, until a time or for good: a member is removed, and from then on the conversation does not exist
    for them. Nobody of an equal or a higher role than yours."""
    until, reason = until_of(wanted)
    kept, new = await keeping_out.put(
        service.database, caller, conversation_id, resolve(user_id, caller), until, reason
    )
    return Json(kept.wire(), 201 if new else 200)


@router.delete("/{user_id:path}", status_code=204, responses=documented(None, status=204))
@does(Action.KEEP_OUT)
async def let_in(conversation_id: UUID, user_id: UserPath, service: ServiceDep, caller: CallerDep) -> Response:
    """Keep someone out no longer. They are no member by that; they can join, or be added."""
    await keeping_out.let_in(service.database, caller, conversation_id, resolve(user_id, caller))
    return Response(status_code=204)
