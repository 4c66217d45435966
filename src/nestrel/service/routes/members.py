"""Members of a conversation: list, join, add, change role, leave, remove."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Path, Query, Request
from starlette.responses import Response

from nestrel.core.callers import Caller
from nestrel.core.objects import Member, MemberPage
from nestrel.core.problems import NotFound, invalid
from nestrel.core.rights import Action
from nestrel.core.text import check_user_id
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.listing import listed
from nestrel.service.models import ChangeMember, ListQuery, PutMember
from nestrel.service.state import Service
from nestrel.store.access import see
from nestrel.store.native import Connection
from nestrel.store.read import members
from nestrel.store.rows import Wire
from nestrel.store.write import members as changing
from nestrel.store.write import noticing

router = APIRouter(prefix="/conversations/{conversation_id}/members", route_class=JsonRoute, tags=["members"])

UserPath = Annotated[str, Path(description="a user id; `me` stands for yourself")]


def resolve(user_id: str, caller: Caller) -> str:
    if user_id == "me":
        return caller.user_id
    try:
        return check_user_id(user_id)
    except ValueError as error:
        raise invalid("/user_id", str(error)) from None


@router.get("", responses=documented(MemberPage))
@does(Action.SEE)
async def listing(
    conversation_id: UUID,
    query: Annotated[ListQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Json:
    """Who is in the conversation, by user id, with role and receipt."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        await see(connection, conversation_id, caller, Action.SEE)
        return await members.page(connection, conversation_id, query.limit, after)

    return await listed(request, service, caller, query, f"members {conversation_id}", read)


@router.put("/{user_id:path}", responses=documented(Member, s201=Member))
@does(Action.JOIN, Action.ADD)
async def put(
    conversation_id: UUID, user_id: UserPath, wanted: PutMember, service: ServiceDep, caller: CallerDep
) -> Json:
    """Join an open conversation yourself, or add someone. Who is a member already is answered with 200."""
    who = resolve(user_id, caller)
    new = await changing.put(service.database, caller, conversation_id, who, wanted.role, service.quotas)
    return await _show(service, conversation_id, who, 201 if new else 200)


@router.patch("/{user_id:path}", responses=documented(Member))
@does(Action.RANK, Action.HIDE)
async def change(
    conversation_id: UUID, user_id: UserPath, wanted: ChangeMember, service: ServiceDep, caller: CallerDep
) -> Json:
    """Change a member's role; or, with `hidden`, leave the conversation out of your own list until its next message;
    or say what you are told of while you are not here (`notify`), and from when on (`notify_after`)."""
    who = resolve(user_id, caller)
    if wanted.role is not None:
        await changing.change(service.database, caller, conversation_id, who, wanted.role)
    elif wanted.noticing:
        await noticing.prefer(service.database, caller, conversation_id, who, wanted.noticing)
    else:
        await changing.hide(service.database, caller, conversation_id, who, hidden=bool(wanted.hidden))
    return await _show(service, conversation_id, who, 200)


@router.delete("/{user_id:path}", status_code=204, responses=documented(None, status=204))
@does(Action.LEAVE, Action.DISMISS)
async def end(conversation_id: UUID, user_id: UserPath, service: ServiceDep, caller: CallerDep) -> Response:
    """Leave the conversation, or remove someone from it."""
    await changing.end(service.database, caller, conversation_id, resolve(user_id, caller))
    return Response(status_code=204)


async def _show(service: Service, conversation_id: UUID, user_id: str, status: int) -> Json:
    async with service.database.read() as connection:
        member = await members.show(connection, conversation_id, user_id)
    if member is None:
        raise NotFound("the member has left again meanwhile")
    return Json(member, status)
