"""Reactions on a message, and who has read it."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Path, Query, Request

from nestrel.core.callers import Caller
from nestrel.core.commands import React
from nestrel.core.objects import Message, ReactionPage, ReaderPage
from nestrel.core.problems import invalid
from nestrel.core.rights import Action
from nestrel.core.symbols import check_symbol
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.listing import listed
from nestrel.service.models import ListQuery, ReactionsQuery
from nestrel.service.routes.message import SeqPath, kept, shown
from nestrel.service.state import Service
from nestrel.store.native import Connection
from nestrel.store.read import reactions, receipts
from nestrel.store.rows import Wire

router = APIRouter(prefix="/conversations/{conversation_id}/messages/{seq}", route_class=JsonRoute, tags=["messages"])

SymbolPath = Annotated[str, Path(description="`like`, or one emoji")]


async def _react(service: Service, caller: Caller, conversation_id: UUID, seq: int, symbol: str, *, on: bool) -> Json:
    try:
        checked = check_symbol(symbol)
    except ValueError as error:
        raise invalid("/symbol", str(error)) from None
    command = React(conversation_id, caller.user_id, seq, checked, on, caller.service)
    return shown((await service.writer.submit([command]))[0].object)


@router.put("/reactions/{symbol}", responses=documented(Message))
@does(Action.REACT)
async def put(conversation_id: UUID, seq: SeqPath, symbol: SymbolPath, service: ServiceDep, caller: CallerDep) -> Json:
    """Set your reaction; the answer is the message. Again changes nothing. A message bears 20 different symbols."""
    return await _react(service, caller, conversation_id, seq, symbol, on=True)


@router.delete("/reactions/{symbol}", responses=documented(Message))
@does(Action.REACT)
async def take_back(
    conversation_id: UUID, seq: SeqPath, symbol: SymbolPath, service: ServiceDep, caller: CallerDep
) -> Json:
    """Take your reaction back; where there is none, nothing changes."""
    return await _react(service, caller, conversation_id, seq, symbol, on=False)


@router.get("/reactions", responses=documented(ReactionPage))
@does(Action.SEE)
async def listing(
    conversation_id: UUID,
    seq: SeqPath,
    query: Annotated[ReactionsQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Json:
    """Who reacted, with what and when, by symbol and user id; `symbol` asks for one."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        await kept(connection, conversation_id, seq, caller)
        symbol, _, user_id = after.partition(" ")
        items, following = await reactions.page(
            connection, conversation_id, seq, query.limit, (symbol, user_id), query.symbol
        )
        return items, " ".join(following) if following is not None else None

    place = f"reactions {conversation_id} {seq} {query.symbol or ''}"
    return await listed(request, service, caller, query, place, read)


@router.get("/readers", responses=documented(ReaderPage))
@does(Action.SEE)
async def readers(
    conversation_id: UUID,
    seq: SeqPath,
    query: Annotated[ListQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Json:
    """The members whose receipt has reached this message, by user id, and when it last moved."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        await kept(connection, conversation_id, seq, caller)
        return await receipts.readers(connection, conversation_id, seq, query.limit, after)

    return await listed(request, service, caller, query, f"readers {conversation_id} {seq}", read)
