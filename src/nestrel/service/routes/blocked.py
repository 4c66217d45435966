"""Whom one blocks."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request
from starlette.responses import Response

from nestrel.core import order_objects as objects
from nestrel.core.problems import NotFound
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.listing import listed
from nestrel.service.models import ListQuery
from nestrel.service.order_models import Nothing
from nestrel.service.routes.members import UserPath, resolve
from nestrel.store import rows
from nestrel.store.native import Connection
from nestrel.store.rows import Wire
from nestrel.store.write import blocks

router = APIRouter(prefix="/me/blocked", route_class=JsonRoute, tags=["people"])


@router.get("", responses=documented(objects.BlockedPage))
@does(Action.OWN)
async def listing(
    query: Annotated[ListQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """Whom you block, by user id."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        found, following = await blocks.page(connection, caller.user_id, query.limit, after)
        return [{"user_id": who, "blocked_at": rows.wire_time(at)} for who, at in found], following

    return await listed(request, service, caller, query, "blocked", read)


@router.get("/{user_id:path}", responses=documented(objects.Blocked))
@does(Action.OWN)
async def show(user_id: UserPath, service: ServiceDep, caller: CallerDep) -> Json:
    """Since when you block someone; 404 for whom you do not block."""
    who = resolve(user_id, caller)
    async with service.database.read() as connection:
        at = await blocks.since(connection, caller.user_id, who)
    if at is None:
        raise NotFound(f"you do not block {who!r}")
    return Json({"user_id": who, "blocked_at": rows.wire_time(at)})


@router.put("/{user_id:path}", responses=documented(objects.Blocked, s201=objects.Blocked))
@does(Action.OWN)
async def put(user_id: UserPath, service: ServiceDep, caller: CallerDep, wanted: Nothing | None = None) -> Json:
    """Block someone: neither of you opens a direct conversation with the other or posts in one that exists, and they do
    not add you to any. They are not told."""
    who = resolve(user_id, caller)
    at, new = await blocks.put(service.database, caller.user_id, who)
    return Json({"user_id": who, "blocked_at": rows.wire_time(at)}, 201 if new else 200)


@router.delete("/{user_id:path}", status_code=204, responses=documented(None, status=204))
@does(Action.OWN)
async def end(user_id: UserPath, service: ServiceDep, caller: CallerDep) -> Response:
    """Block someone no longer."""
    await blocks.delete(service.database, caller.user_id, resolve(user_id, caller))
    return Response(status_code=204)
