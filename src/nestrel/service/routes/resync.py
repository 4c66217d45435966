"""Resync: everything of a member's that moved while the client was away, in as few answers as it takes."""

from __future__ import annotations

from typing import Any
from uuid import UUID

from fastapi import APIRouter, Request
from starlette.responses import Response

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.cursors import AllPosition, ChangePosition, ResyncPosition
from nestrel.core.objects import ResyncAnswer
from nestrel.core.problems import InvalidRequest, fault
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.addressing import addressed
from nestrel.service.http import CallerDep, DirectRoute, ServiceDep, body_of, documented, request_body
from nestrel.service.intake import Counted, takes
from nestrel.service.listing import opened
from nestrel.service.models import ResyncRequest
from nestrel.service.state import Service
from nestrel.store import rows
from nestrel.store.read import resync
from nestrel.store.read.resync import Resync

direct = APIRouter(prefix="/v1", tags=["changes"], route_class=DirectRoute)


@direct.post("/resync", responses=documented(ResyncAnswer), openapi_extra=request_body(ResyncRequest))
@does(Action.OWN)
@takes(limits.LIST_REQUEST_BYTES, Counted.READ)
async def bring(request: Request, service: ServiceDep, caller: CallerDep) -> Response:
    """A change set for each of your conversations that moved, those that you joined and those that are yours no more.

    From an all cursor, ask again with the answer's `cursor` while it says `more`. From a map, put the items' cursors
    into the map and ask again. `reset` says that it is a sync from nothing: what is not in `joined` of any of its
    answers, from the one that `begins` it on, is not yours.
    """
    wanted = await body_of(request, ResyncRequest)
    most = service.settings.catch_up_rows
    if wanted.conversations is not None:
        held = _opened_map(service, caller, wanted.conversations)
        async with service.database.read() as connection:
            found = await resync.from_map(connection, caller.user_id, held, limits.RESYNC_ROWS, most)
    else:
        start = None
        if wanted.cursor is not None:
            start = opened(service.seal.open_all, caller.user_id, wanted.cursor)
        recent = await _recent(service, start)
        async with service.database.read() as connection:
            found = await resync.from_cursor(connection, caller.user_id, start, limits.RESYNC_ROWS, most, recent)
    return Response(_written(service, caller, found), media_type="application/json")


async def _recent(
    service: Service, start: AllPosition | ResyncPosition | None
) -> tuple[AllPosition, list[UUID]] | None:
    """What has moved in the whole store since a cursor, if it is known here and less than a walk over a member's own
    conversations would look at."""
    since = start.since if isinstance(start, ResyncPosition) else start
    if since is None:
        return None
    now, recent = await service.moves.since(since, limits.MOVES_PROBED)
    return (now, list(recent.moved)) if recent is not None else None


def _opened_map(service: Service, caller: Caller, cursors: dict[UUID, str]) -> dict[UUID, ChangePosition]:
    held: dict[UUID, ChangePosition] = {}
    for conversation_id, cursor in cursors.items():
        try:
            held[conversation_id] = service.seal.open_conversation(caller.user_id, conversation_id, cursor)
        except ValueError as error:
            wrong = fault(f"/conversations/{conversation_id}", str(error))
            raise InvalidRequest(f"conversations: the cursor of {conversation_id} {error}", errors=[wrong]) from None
    return held


def _written(service: Service, caller: Caller, found: Resync) -> str:
    items = ",".join(addressed(service.seal, caller.user_id, item) for item in found.items)
    rest: dict[str, Any] = {
        "joined": [str(id_) for id_ in found.joined],
        "gone": [str(id_) for id_ in found.gone],
        "cursor": service.seal.all(caller.user_id, found.cursor),
        "more": found.more,
        "reset": found.from_nothing,
        "begins": found.begins,
        "rewound": found.rewound,
    }
    return f'{{"items":[{items}],{rows.dump(rest).decode()[1:]}'
