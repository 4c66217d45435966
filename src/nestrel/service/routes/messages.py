"""Messages: post, post many, a page of history."""

from __future__ import annotations

from uuid import UUID

from fastapi import APIRouter, Request
from starlette.responses import Response

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.objects import HistoryPage, Message, MessageBatch
from nestrel.core.paging import HistoryQuery
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.commands import make_post
from nestrel.service.http import (
    CallerDep,
    DirectRoute,
    Json,
    JsonRoute,
    Parts,
    ServiceDep,
    body_of,
    documented,
    idempotency_key,
    key_parameter,
    link_header,
    query_of,
    query_parameters,
    request_body,
)
from nestrel.service.intake import Counted, takes
from nestrel.service.listing import opened
from nestrel.service.models import MessagesQuery, PostBatch, PostMessage
from nestrel.service.state import Service
from nestrel.store import rows
from nestrel.store.read.changes import position_of

router = APIRouter(prefix="/conversations/{conversation_id}/messages", route_class=JsonRoute, tags=["messages"])

direct = APIRouter(prefix="/v1/conversations/{conversation_id}/messages", route_class=DirectRoute, tags=["messages"])

_SMALL_PAGE = 64 * 1024
_POST_DOCUMENT = {
    **request_body(PostMessage),
    "parameters": [key_parameter("Your own id for this post: a repeat has no second effect.")],
}


@direct.post("", status_code=201, responses=documented(Message, status=201, s200=Message), openapi_extra=_POST_DOCUMENT)
@does(Action.POST)
@takes(limits.MESSAGE_REQUEST_BYTES, Counted.ITSELF, keyed=True)
async def post(conversation_id: UUID, request: Request, service: ServiceDep, caller: CallerDep) -> Json:
    """Post a message. The answer comes when it is durable; a repeat of its key is answered with 200."""
    wanted = await body_of(request, PostMessage)
    unit = [make_post(conversation_id, caller, wanted, idempotency_key(request))]
    await service.count_posts(caller, unit)
    posted = (await service.writer.submit(unit))[0]
    headers = {"ETag": f'"{posted.object["rev"]}"'}
    return Json(posted.object, 201 if posted.new else 200, headers)


@router.post("/batch", responses=documented(MessageBatch))
@does(Action.POST)
@takes(limits.BATCH_REQUEST_BYTES, Counted.ITSELF)
async def post_batch(conversation_id: UUID, wanted: PostBatch, service: ServiceDep, caller: CallerDep) -> Json:
    """Post up to 500 messages, all or none, numbered in this order."""
    posts = [make_post(conversation_id, caller, message, message.key) for message in wanted.messages]
    await service.count_posts(caller, posts)
    return Json({"items": [posted.object for posted in await service.writer.submit(posts)]})


@direct.get("", responses=documented(HistoryPage), openapi_extra=query_parameters(MessagesQuery))
@does(Action.SEE)
async def listing(conversation_id: UUID, request: Request, service: ServiceDep, caller: CallerDep) -> Response:
    """A page of history, newest first unless `order` says otherwise. `change_cursor` is where to follow from."""
    wanted = _history_query(service, caller, conversation_id, query_of(request, MessagesQuery))
    access = await service.access.see(conversation_id, caller, Action.SEE)
    page = service.pages.kept(access, wanted)
    if page is None:
        page = await service.pages.read(service.replicas, access, wanted)
    seal, member = service.seal, caller.user_id
    cursors: dict[str, str | None] = {"older": None, "newer": None}
    if page.older:
        cursors["older"] = seal.history(member, conversation_id, wanted.position(older=True, seq=page.lowest))
    if page.newer:
        cursors["newer"] = seal.history(member, conversation_id, wanted.position(older=False, seq=page.highest))
    rest = {
        **cursors,
        "head": access.head,
        "floor": access.floor,
        "change_cursor": seal.conversation(member, conversation_id, position_of(access)),
    }
    links = link_header(request, cursors, wanted.limit)
    tail = b',"profiles":' + page.profiles + b"," + rows.dump(rest)[1:]
    if len(page.items) < _SMALL_PAGE:
        return Response(b'{"items":' + page.items + tail, headers=links, media_type="application/json")
    return Parts([b'{"items":', page.items, tail], links)


def _history_query(service: Service, caller: Caller, conversation_id: UUID, query: MessagesQuery) -> HistoryQuery:
    if query.cursor is not None:
        at = opened(service.seal.open_history, caller.user_id, conversation_id, query.cursor)
        return HistoryQuery.from_position(at, query.limit)
    return HistoryQuery(
        query.limit,
        descending=query.order != "asc",
        before=query.before,
        after=query.after,
        around=query.around,
        since=query.since,
        until=query.until,
        author=query.author,
    )
