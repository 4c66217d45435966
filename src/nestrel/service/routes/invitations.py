"""Invitations: made, listed and taken back by who may; seen and accepted by who has the token."""

from __future__ import annotations

import time
from secrets import token_bytes
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request
from starlette.responses import Response

from nestrel.core import objects
from nestrel.core.ids import uuid7
from nestrel.core.invitations import hash_of, new_token
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.listing import listed
from nestrel.service.models import ListQuery, MakeInvitation
from nestrel.store.access import see
from nestrel.store.native import Connection
from nestrel.store.read import conversations, invitations
from nestrel.store.rows import Wire
from nestrel.store.write import invitations as changing

router = APIRouter(route_class=JsonRoute, tags=["invitations"])

_HERE = "/conversations/{conversation_id}/invitations"
_NOTHING = UUID(int=0)


@router.post(_HERE, status_code=201, responses=documented(objects.Invitation, status=201))
@does(Action.INVITE)
async def make(
    conversation_id: UUID, service: ServiceDep, caller: CallerDep, wanted: MakeInvitation | None = None
) -> Json:
    """Make an invitation, by owners and moderators, to no higher role than their own. Whoever has the token, which is
    in this answer alone, can join."""
    asked, token = wanted or MakeInvitation(), new_token()
    id_ = uuid7(int(time.time() * 1000), token_bytes(10))
    made = await changing.make(
        service.database, caller, conversation_id, id_, hash_of(token), asked.role, asked.uses, asked.expires_in
    )
    return Json({**made.wire(), "token": token}, 201)


@router.get(_HERE, responses=documented(objects.InvitationPage))
@does(Action.INVITE)
async def listing(
    conversation_id: UUID,
    query: Annotated[ListQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Json:
    """The invitations of a conversation, the oldest first, without their tokens; for owners and moderators."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        await see(connection, conversation_id, caller, Action.INVITE)
        after_id = UUID(after) if after else _NOTHING
        found, following = await invitations.page(connection, conversation_id, query.limit, after_id)
        return [one.wire() for one in found], str(following) if following is not None else None

    return await listed(request, service, caller, query, f"invitations {conversation_id}", read, "created_by")


@router.delete(_HERE + "/{invitation_id}", status_code=204, responses=documented(None, status=204))
@does(Action.INVITE)
async def revoke(conversation_id: UUID, invitation_id: UUID, service: ServiceDep, caller: CallerDep) -> Response:
    """Take an invitation back: from then on nobody joins with it."""
    await changing.revoke(service.database, caller, conversation_id, invitation_id)
    return Response(status_code=204)


@router.get("/invitations/{token}", responses=documented(objects.Invited))
@does(Action.ACCEPT)
async def show(token: str, service: ServiceDep, caller: CallerDep) -> Json:
    """What an invitation leads to, for who has its token."""
    async with service.database.read() as connection:
        return Json(await invitations.show(connection, caller, hash_of(token)))


@router.post("/invitations/{token}/accept", responses=documented(objects.Conversation))
@does(Action.ACCEPT, Action.SEE)
async def accept(token: str, service: ServiceDep, caller: CallerDep) -> Json:
    """Join the conversation. Who is a member already is answered with it too, and uses nothing up."""
    conversation_id = await changing.accept(service.database, caller, hash_of(token), service.quotas)
    async with service.database.read() as connection:
        await see(connection, conversation_id, caller, Action.SEE)
        return Json(await conversations.show(connection, conversation_id, caller.user_id))
