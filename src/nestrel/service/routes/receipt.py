"""One's own receipt."""

from __future__ import annotations

from uuid import UUID

from fastapi import APIRouter

from nestrel.core.commands import Read
from nestrel.core.objects import Receipt
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.models import PutReceipt

router = APIRouter(prefix="/conversations/{conversation_id}/receipt", route_class=JsonRoute, tags=["members"])


@router.put("", responses=documented(Receipt))
@does(Action.READ)
async def put(conversation_id: UUID, wanted: PutReceipt, service: ServiceDep, caller: CallerDep) -> Json:
    """Say how far you have read. A receipt only grows; the answer is where it stands, and what is unread above it."""
    command = Read(conversation_id, caller.user_id, wanted.read_seq, caller.service)
    return Json((await service.writer.submit([command]))[0].object)
