"""The archive of a conversation: its segments, and each of them read back."""

from __future__ import annotations

from base64 import b64encode
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Path, Query, Request
from starlette.responses import Response

from nestrel.core.kept_objects import ArchivePage
from nestrel.core.problems import NotFound
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented, documented_text, link_header
from nestrel.service.listing import opened
from nestrel.service.models import ListQuery
from nestrel.store import rows
from nestrel.store.access import see
from nestrel.store.keep import archive, sweep
from nestrel.store.keep.archive import Segment
from nestrel.store.native import Connection

router = APIRouter(prefix="/conversations/{conversation_id}/archive", route_class=JsonRoute, tags=["archive"])

_LINES = documented_text(
    "Its messages, one a line; `Content-Digest` (RFC 9530) is over these bytes", "application/jsonl"
)
SegmentPath = Annotated[int, Path(ge=1, le=2**31 - 1)]


@router.get("", responses=documented(ArchivePage))
@does(Action.ARCHIVE)
async def listing(
    conversation_id: UUID,
    query: Annotated[ListQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Json:
    """The segments, oldest first. For owners and backends."""
    after, place = 0, f"archive {conversation_id}"
    if query.cursor is not None:
        after = int(opened(service.seal.open_listing, caller.user_id, place, query.cursor))
    async with service.database.read() as connection:
        await see(connection, conversation_id, caller, Action.ARCHIVE)
        items, following = await archive.page(connection, conversation_id, query.limit, after)
        discarded = await sweep.discarded(connection, conversation_id)
    cursor = service.seal.listing(caller.user_id, place, str(following)) if following is not None else None
    answer = {
        "items": [item.wire() for item in items],
        "next": cursor,
        "discarded": [
            {"first_seq": first, "last_seq": last, "discarded_at": rows.wire_time(at)} for first, last, at in discarded
        ],
    }
    return Json(answer, headers=link_header(request, {"next": cursor}, query.limit))


@router.get("/{segment}", response_class=Response, responses=_LINES)
@does(Action.ARCHIVE)
async def show(conversation_id: UUID, segment: SegmentPath, service: ServiceDep, caller: CallerDep) -> Response:
    """The messages of a segment as JSON Lines, each with its earlier bodies and everyone who reacted."""
    async with service.database.read() as connection:
        await see(connection, conversation_id, caller, Action.ARCHIVE)
        expected = await archive.digest(connection, conversation_id, segment)

    async def read(connection: Connection) -> tuple[Segment, bytes] | None:
        return await archive.read(connection, conversation_id, segment)

    async def holds(connection: Connection) -> bool:
        return await archive.digest(connection, conversation_id, segment) == expected

    found = None
    if expected is not None:
        found = await service.replicas.ask(holds, read)
        if found is None:
            async with service.database.read() as connection:
                found = await read(connection)
    if found is None:
        raise NotFound(f"there is no segment {segment} in this archive")
    digest = b64encode(found[0].sha256).decode()
    return Response(found[1], headers={"Content-Digest": f"sha-256=:{digest}:"}, media_type="application/jsonl")
