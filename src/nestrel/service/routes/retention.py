"""Retention rules: of a conversation, and of the service for all that have none of their own."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query
from starlette.responses import Response

from nestrel.core.callers import Caller
from nestrel.core.kept_objects import RetentionPreview, RetentionRule, RetentionRun
from nestrel.core.retention import Rule, Then
from nestrel.core.rights import Action
from nestrel.core.roles import Kind
from nestrel.service import retention_models as models
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.intake import Counted, takes
from nestrel.service.state import Service
from nestrel.store.access import see
from nestrel.store.keep import previewing, retention

router = APIRouter(route_class=JsonRoute, tags=["retention"])

ConfirmQuery = Annotated[models.Confirmation, Query()]
KindQuery = Annotated[models.OfKind, Query()]
ClearQuery = Annotated[models.ClearOfKind, Query()]
_OF_ONE = "/conversations/{conversation_id}/retention"
_RUN_SECONDS = 1.0


@router.get(_OF_ONE, responses=documented(RetentionRule))
@does(Action.FOLLOW)
async def show(conversation_id: UUID, service: ServiceDep, caller: CallerDep) -> Json:
    """The rule that the conversation goes by; any member may read it."""
    async with service.database.read() as connection:
        await see(connection, conversation_id, caller, Action.FOLLOW)
        return Json(await retention.read(connection, conversation_id))


@router.put(_OF_ONE, responses=documented(RetentionRule))
@does(Action.RULE)
async def put(conversation_id: UUID, wanted: models.PutRetention, service: ServiceDep, caller: CallerDep) -> Json:
    """Set the rule. It holds from the commit on, to the message; if that takes something away at once, `confirm: true`
    is needed, and the refusal (409) shows the preview."""
    return await _put(service, caller, conversation_id, wanted.rule, confirmed=wanted.confirm)


@router.delete(_OF_ONE, status_code=204, responses=documented(None, status=204))
@does(Action.RULE)
async def clear(conversation_id: UUID, query: ConfirmQuery, service: ServiceDep, caller: CallerDep) -> Response:
    """Clear the rule; the service's then holds, if there is one. `confirm` as above."""
    await _put(service, caller, conversation_id, None, confirmed=query.confirm)
    return Response(status_code=204)


async def _put(service: Service, caller: Caller, conversation_id: UUID, rule: Rule | None, *, confirmed: bool) -> Json:
    return Json(await retention.put(service.database, conversation_id, rule, confirmed=confirmed, caller=caller))


@router.post(f"{_OF_ONE}/preview", responses=documented(RetentionPreview))
@does(Action.RULE)
@takes(counted=Counted.READ)
async def preview(conversation_id: UUID, wanted: models.WantedRule, service: ServiceDep, caller: CallerDep) -> Json:
    """What the rule would take away now, counts and dates; nothing changes."""
    async with service.database.read() as connection:
        await see(connection, conversation_id, caller, Action.RULE)
        return Json((await previewing.preview(connection, [conversation_id], wanted.rule)).wire())


@router.get("/retention", responses=documented(RetentionRule))
@does(Action.SERVE)
async def show_for_all(query: KindQuery, service: ServiceDep, caller: CallerDep) -> Json:
    """The rule of all conversations without one of their own; with `kind`, of those of that kind. For a trusted
    backend, as all that follows."""
    async with service.database.read() as connection:
        return Json(await retention.read_inherited(connection, query.kind))


@router.put("/retention", responses=documented(RetentionRule))
@does(Action.SERVE)
async def put_for_all(wanted: models.PutRetention, query: KindQuery, service: ServiceDep, caller: CallerDep) -> Json:
    """Set the rule of all conversations without one of their own, or of those of a `kind`, which then goes before the
    service's. Each goes by it from the next sweep on."""
    return await _put_for_all(service, caller, wanted.rule, query.kind, confirmed=wanted.confirm)


@router.delete("/retention", status_code=204, responses=documented(None, status=204))
@does(Action.SERVE)
async def clear_for_all(query: ClearQuery, service: ServiceDep, caller: CallerDep) -> Response:
    """Clear that rule: conversations without one of their own keep everything; those of a `kind` go by the service's
    again, which needs `confirm` where it takes something away."""
    confirmed = query.kind is None or query.confirm
    await _put_for_all(service, caller, None, query.kind, confirmed=confirmed)
    return Response(status_code=204)


async def _put_for_all(
    service: Service, caller: Caller, rule: Rule | None, kind: Kind | None, *, confirmed: bool
) -> Json:
    return Json(await retention.put_inherited(service.database, rule, kind, confirmed=confirmed, caller=caller))


@router.post("/retention/preview", responses=documented(RetentionPreview))
@does(Action.SERVE)
@takes(counted=Counted.READ)
async def preview_for_all(wanted: models.WantedRule, query: KindQuery, service: ServiceDep, caller: CallerDep) -> Json:
    """What the rule would take from all conversations without one of their own; with `kind`, from those of it."""
    async with service.database.read() as connection:
        return Json((await previewing.preview_inherited(connection, wanted.rule, query.kind)).wire())


@router.post("/retention/run", responses=documented(RetentionRun))
@does(Action.SERVE)
async def run(service: ServiceDep, caller: CallerDep) -> Json:
    """Sweep now, without pauses, for about a second; to be called again while messages wait."""
    taken = await service.sweeper.run_for(_RUN_SECONDS)
    waiting = await service.sweeper.backlog()
    answer = {
        "archived": taken[Then.ARCHIVE],
        "discarded": taken[Then.DISCARD],
        "waiting": waiting.messages,
        "conversations": waiting.conversations,
    }
    return Json(answer)
