"""Reports of messages: made by readers, judged by moderators."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request

from nestrel.core import order_objects as objects
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.listing import listed
from nestrel.service.order_models import ReportMessage, ReportsQuery, SettleReport
from nestrel.service.routes.message import SeqPath
from nestrel.store.native import Connection
from nestrel.store.rows import Wire
from nestrel.store.write import audit, reports

router = APIRouter(route_class=JsonRoute, tags=["reports"])


@router.post("/conversations/{conversation_id}/messages/{seq}/reports", status_code=201,
             responses=documented(objects.Report, status=201, s200=objects.Report))  # fmt: skip
@does(Action.REPORT)
async def make(
    conversation_id: UUID, seq: SeqPath, wanted: ReportMessage, service: ServiceDep, caller: CallerDep
) -> Json:
    """Tell those who judge of a message. What it says now stays readable to them for 30 days, whatever its author does.
    Reporting it again changes the reason (200)."""
    made, new = await reports.make(service.database, caller, conversation_id, seq, audit.new_id(), wanted.reason)
    return Json(made, 201 if new else 200)


@router.get("/reports", responses=documented(objects.ReportPage))
@does(Action.OWN)
async def listing(
    query: Annotated[ReportsQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """The reports of conversations in which you judge, newest first; a backend's are all. Whoever judges nowhere has an
    empty list."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        items, following = await reports.page(
            connection, caller, query.state, query.conversation_id, query.limit, UUID(after) if after else reports.LAST
        )
        return items, str(following) if following is not None else None

    of = f"reports {query.state or ''} {query.conversation_id or ''}"
    return await listed(request, service, caller, query, of, read, "author_id")


@router.patch("/reports/{report_id}", responses=documented(objects.Report))
@does(Action.OWN)
async def settle(report_id: UUID, wanted: SettleReport, service: ServiceDep, caller: CallerDep) -> Json:
    """Settle a report, or open it again."""
    return Json(await reports.settle(service.database, caller, report_id, wanted.state))
