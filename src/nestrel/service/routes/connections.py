"""Who is connected, at all processes; for a trusted backend."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query, Request
from starlette.responses import Response

from nestrel.core import order_objects as objects
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.listing import listed
from nestrel.service.order_models import ConnectionsQuery
from nestrel.store.native import Connection
from nestrel.store.rows import Wire
from nestrel.store.write import connections

router = APIRouter(prefix="/connections", route_class=JsonRoute, tags=["usage"])


@router.get("", responses=documented(objects.ConnectionPage))
@does(Action.SERVE)
async def listing(
    query: Annotated[ConnectionsQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """The open sockets and streams, a few seconds late. `behind` says of how many of the conversations that it follows
    something is still to be sent."""
    await service.reporting.tell_connections()

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        return await connections.page(connection, query.user_id, query.limit, after)

    return await listed(request, service, caller, query, f"connections {query.user_id or ''}", read)


@router.delete("/{connection_id}", status_code=204, responses=documented(None, status=204))
@does(Action.SERVE)
async def end(connection_id: Annotated[str, Path(max_length=64)], service: ServiceDep, caller: CallerDep) -> Response:
    """End a connection, on whatever process it is; a socket closes with 4410. Whoever has it may come back: to keep
    somebody away, suspend them."""
    await connections.end(service.database, caller, connection_id)
    service.reporting.end(connection_id)
    return Response(status_code=204)
