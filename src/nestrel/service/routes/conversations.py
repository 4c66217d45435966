"""Conversations: make, list, show, change, close."""

from __future__ import annotations

import os
import time
from datetime import datetime
from typing import Annotated, Any
from uuid import UUID

import orjson
from fastapi import APIRouter, Query, Request
from starlette.responses import Response

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.commands import digest
from nestrel.core.conversations import new_conversation
from nestrel.core.objects import Conversation, ConversationPage
from nestrel.core.problems import Forbidden, invalid
from nestrel.core.rights import Action
from nestrel.core.text import pack_attributes
from nestrel.service.access import does
from nestrel.service.http import (
    CallerDep,
    Json,
    JsonRoute,
    ServiceDep,
    documented,
    idempotency_key,
    key_parameter,
    link_header,
)
from nestrel.service.intake import takes
from nestrel.service.listing import opened
from nestrel.service.models import ChangeConversation, ConversationsQuery, MakeConversation
from nestrel.service.questions import sealed, unsealed
from nestrel.service.state import Service
from nestrel.store import snapshots
from nestrel.store.access import see
from nestrel.store.read import conversations, members, profiles
from nestrel.store.read.conversations import ListPosition
from nestrel.store.rows import Wire
from nestrel.store.write import conversations as changing
from nestrel.store.write.made_keys import MakingKey

_ALL = "all conversations"
_KEY = "Your own id for this conversation: for 24 hours a repeat is answered with what the first request made."

router = APIRouter(prefix="/conversations", route_class=JsonRoute, tags=["conversations"])


@router.post(
    "",
    responses=documented(Conversation, status=201, s200=Conversation),
    status_code=201,
    openapi_extra={"parameters": [key_parameter(_KEY)]},
)
@does(Action.MAKE, Action.SEE)
@takes(limits.LIST_REQUEST_BYTES, keyed=True)
async def make(wanted: MakeConversation, request: Request, service: ServiceDep, caller: CallerDep) -> Json:
    """Make a conversation; you become its owner. A direct one that exists already is answered with 200. A trusted
    backend makes a direct one of two others, and is not in it."""
    key = idempotency_key(request)
    new = new_conversation(
        caller.user_id,
        wanted.kind,
        wanted.members,
        visibility=wanted.visibility,
        name=wanted.name,
        title=wanted.title,
        attributes=pack_attributes(wanted.attributes),
        rule=wanted.retention.rule if wanted.retention is not None else None,
        now=time.time(),
        random=os.urandom(10),
        service=caller.service,
    )
    making = None if key is None else MakingKey(key, _fingerprint(wanted))
    conversation_id, made = await changing.make(service.database, new, caller, service.quotas, making)
    location = {"Location": f"/v1/conversations/{conversation_id}"}
    return Json(await _shown(service, caller, conversation_id, new=made), 201 if made else 200, location)


def _fingerprint(wanted: MakeConversation) -> bytes:
    """The hash of what was asked for. Only what was sent counts: what is added by default may be more in another
    version."""
    asked = wanted.model_dump(mode="json", exclude_unset=True)
    return digest(orjson.dumps(asked, option=orjson.OPT_SORT_KEYS).decode())


async def _shown(service: Service, caller: Caller, conversation_id: UUID, *, new: bool = True) -> Wire:
    async with service.database.read() as connection:
        if not new:  # whoever made it may have left it since
            await see(connection, conversation_id, caller, Action.SEE)
        return await conversations.show(connection, conversation_id, caller.user_id)


@router.get("", responses=documented(ConversationPage))
@does(Action.LIST)
async def listing(
    query: Annotated[ConversationsQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """`mine`: your conversations, newest activity first, and the all cursor from before the list was read.
    `open`: what anyone may join; a trusted backend sees every conversation here. `all`: for a trusted backend, those of
    a `member`, or by words of their names and titles."""
    if _is_of_all(service, caller, query):
        return await _every(service, caller, query, request)
    name, scope = query.name, query.scope
    position: ListPosition | None = None
    if query.cursor is not None:
        if query.model_fields_set - {"limit", "cursor", "scope"}:
            raise invalid("/cursor", "a cursor stands for the whole query; send only limit beside it")
        scope, position = _open_position(service, caller, query)
    at, chosen, more = None, None, False
    if scope == "mine" and name is None:
        kept = await service.lists.page(caller.user_id, query.limit, position)
        if kept is not None:
            at, chosen, more = kept
    async with service.database.read() as connection:
        if chosen is not None:
            items = await conversations.shown(connection, caller, [one.id for one in chosen], mine=True)
            following = chosen[-1] if more else None
        else:
            at = await snapshots.now(connection) if scope == "mine" else None
            items, following = await conversations.page(connection, scope, caller, query.limit, position, name)
        people = await profiles.read(connection, _people(items))
    next_cursor = None
    if following is not None:
        key = f"{scope} {following.at.isoformat()} {following.id}"
        next_cursor = service.seal.listing(caller.user_id, "conversations", key)
    answer = {
        "items": items,
        "next": next_cursor,
        "cursor": service.seal.all(caller.user_id, at) if at is not None else None,
        "profiles": people,
    }
    return Json(answer, headers=link_header(request, {"next": next_cursor}, query.limit))


def _is_of_all(service: Service, caller: Caller, query: ConversationsQuery) -> bool:
    if query.cursor is None:
        return query.scope == "all"
    try:
        service.seal.open_listing(caller.user_id, _ALL, query.cursor)
    except ValueError:
        return False
    return True


async def _every(service: Service, caller: Caller, query: ConversationsQuery, request: Request) -> Json:
    """One page of all conversations, for a trusted backend."""
    if not caller.service:
        raise Forbidden("only a trusted backend (scope nestrel.service) lists all conversations")
    if query.cursor is not None and query.model_fields_set - {"limit", "cursor"}:
        raise invalid("/cursor", "a cursor stands for the whole query; send only limit beside it")
    async with service.database.read() as connection:
        question, after = [query.member, query.q], ""
        if query.cursor is not None:
            question, after = await unsealed(connection, service, caller, _ALL, query.cursor)
        member, q = question
        items, following = await conversations.every(
            connection, caller, query.limit, UUID(after) if after else None, member, q or ""
        )
        people = await profiles.read(connection, _people(items))
        cursor = None
        if following is not None:
            cursor = await sealed(connection, service, caller, _ALL, question, following.hex)
    answer = {"items": items, "next": cursor, "cursor": None, "profiles": people}
    return Json(answer, headers=link_header(request, {"next": cursor}, query.limit))


def _open_position(service: Service, caller: Caller, query: ConversationsQuery) -> tuple[Any, ListPosition]:
    assert query.cursor is not None
    key = opened(service.seal.open_listing, caller.user_id, "conversations", query.cursor)
    scope, at, conversation_id = key.split(" ")
    if "scope" in query.model_fields_set and query.scope != scope:
        raise invalid("/cursor", "a cursor stands for the whole query; send only limit beside it")
    return scope, ListPosition(datetime.fromisoformat(at), UUID(conversation_id))


def _people(items: list[Wire]) -> set[str]:
    """Whom a list shows: the makers, the authors of the last messages, and the other of a direct conversation."""
    people = {item["created_by"] for item in items} | {item["partner"] for item in items if item["partner"]}
    return people | {item["last_message"]["author_id"] for item in items if item["last_message"]}


@router.get("/{conversation_id}", responses=documented(Conversation))
@does(Action.SEE)
async def show(conversation_id: UUID, service: ServiceDep, caller: CallerDep) -> Json:
    """One conversation as you see it, with your own member row as `me`: where there are more than 1,000 members, change
    sets carry those of owners and moderators alone."""
    async with service.database.read() as connection:
        await see(connection, conversation_id, caller, Action.SEE)
        shown = await conversations.show(connection, conversation_id, caller.user_id)
        return Json({**shown, "me": await members.show(connection, conversation_id, caller.user_id)})


@router.patch("/{conversation_id}", responses=documented(Conversation))
@does(Action.CHANGE)
async def change(conversation_id: UUID, wanted: ChangeConversation, service: ServiceDep, caller: CallerDep) -> Json:
    """Change title, name, visibility, attributes, or how often writers post; owners only. A backend makes a bulletin
    everyone's with `default`."""
    fields: dict[str, Any] = wanted.model_dump(exclude_unset=True)
    if "attributes" in fields:
        fields["attributes"] = pack_attributes(fields["attributes"])
    if "visibility" in fields:
        fields["visibility"] = fields["visibility"].value
    await changing.change(service.database, caller, conversation_id, fields)
    if fields.get("default"):
        service.something_left.set()
    return Json(await _shown(service, caller, conversation_id))


@router.delete("/{conversation_id}", status_code=204, responses=documented(None, status=204))
@does(Action.CLOSE)
async def close(conversation_id: UUID, service: ServiceDep, caller: CallerDep) -> Response:
    """Close it for good; from then on it does not exist for anyone, and its content is erased."""
    await changing.close(service.database, caller, conversation_id)
    service.something_left.set()
    return Response(status_code=204)
