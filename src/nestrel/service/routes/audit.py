"""The audit, for a trusted backend."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request

from nestrel.core import order_objects as objects
from nestrel.core.problems import invalid
from nestrel.core.rights import Action
from nestrel.core.times import format_time, parse_time
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented, link_header
from nestrel.service.order_models import AuditQuery
from nestrel.service.questions import sealed, unsealed
from nestrel.store.read import audit, called, profiles
from nestrel.store.read.audit import AuditFilter

router = APIRouter(prefix="/audit", route_class=JsonRoute, tags=["audit"])


@router.get("", responses=documented(objects.AuditPage))
@does(Action.SERVE)
async def listing(
    query: Annotated[AuditQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """What people with a role did to others, and what backends did for somebody, newest first. It is only ever added
    to."""
    question = [
        None if query.since is None else format_time(query.since),
        None if query.until is None else format_time(query.until),
        query.actor,
        None if query.conversation_id is None else str(query.conversation_id),
    ]
    async with service.database.read() as connection:
        after = audit.LAST
        if query.cursor is not None:
            if query.model_fields_set - {"limit", "cursor"}:
                raise invalid("/cursor", "a cursor stands for the whole query; send only limit beside it")
            question, key = await unsealed(connection, service, caller, "audit", query.cursor)
            after = UUID(key)
        since, until, actor, place = question
        wanted = AuditFilter(
            parse_time(since) if since else None,
            parse_time(until) if until else None,
            actor,
            UUID(place) if place else None,
        )
        items, following = await audit.page(connection, wanted, query.limit, after)
        cursor = None
        if following is not None:
            cursor = await sealed(connection, service, caller, "audit", question, str(following))
        known = await profiles.read(connection, {one[who] for one in items for who in ("actor", "user_id") if one[who]})
        names = await called.read(connection, {UUID(place) for one in items if (place := one["conversation_id"])})
    answer = {"items": items, "next": cursor, "profiles": known, "conversations": names}
    return Json(answer, headers=link_header(request, {"next": cursor}, query.limit))
