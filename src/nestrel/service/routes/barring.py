"""Suspending people, and signing them out; for a trusted backend."""

from __future__ import annotations

from fastapi import APIRouter, Request
from starlette.responses import Response

from nestrel.core import order_objects as objects
from nestrel.core.problems import invalid
from nestrel.core.rights import Action
from nestrel.core.times import format_time
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.order_models import Nothing, Until, until_of
from nestrel.service.routes.members import UserPath, resolve
from nestrel.store.write import barring

_SUSPENSION = b"/suspension"

router = APIRouter(prefix="/people", route_class=JsonRoute, tags=["people"])


@router.put("/{user_id:path}/suspension", responses=documented(objects.Suspension, s201=objects.Suspension))
@does(Action.SERVE)
async def suspend(
    user_id: UserPath, request: Request, service: ServiceDep, caller: CallerDep, wanted: Until | None = None
) -> Json:
    """Suspend someone, until a time or for good: every call of theirs is refused, and their connections end within
    5 s, on every process."""
    if not request.scope["raw_path"].endswith(_SUSPENSION):
        # Whoever means to put a person of such an id must not suspend another one.
        raise invalid("/user_id", f"an id that ends in {_SUSPENSION.decode()} cannot be put")
    until, reason = until_of(wanted)
    kept, new = await barring.suspend(service.database, caller, resolve(user_id, caller), until, reason)
    await service.bars.look_now()
    return Json(kept.wire(), 201 if new else 200)


@router.delete("/{user_id:path}/suspension", status_code=204, responses=documented(None, status=204))
@does(Action.SERVE)
async def end(user_id: UserPath, service: ServiceDep, caller: CallerDep) -> Response:
    """Let someone in again."""
    await barring.end_suspension(service.database, caller, resolve(user_id, caller))
    await service.bars.look_now()
    return Response(status_code=204)


@router.post("/{user_id:path}/sign-out", responses=documented(objects.SignedOut))
@does(Action.SERVE)
async def sign_out(user_id: UserPath, service: ServiceDep, caller: CallerDep, wanted: Nothing | None = None) -> Json:
    """End all tokens that someone has: those issued up to and including the second of `not_before`, and those that do
    not say when they were."""
    not_before = await barring.sign_out(service.database, caller, resolve(user_id, caller))
    await service.bars.look_now()
    return Json({"not_before": format_time(not_before)})
