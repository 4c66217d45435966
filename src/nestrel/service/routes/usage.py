"""Usage, for a trusted backend."""

from __future__ import annotations

import csv
import io
from datetime import UTC, datetime, timedelta
from typing import Annotated, Any
from uuid import UUID

from fastapi import APIRouter, Query, Request
from starlette.responses import Response

from nestrel.core import order_objects as objects
from nestrel.core.problems import TooLarge, invalid
from nestrel.core.rights import Action
from nestrel.core.times import format_time, parse_time
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented, link_header
from nestrel.service.order_models import UsageQuery
from nestrel.service.questions import sealed, unsealed
from nestrel.store.native import Connection
from nestrel.store.read import usage
from nestrel.store.read.usage import Of, UsageFilter, UsagePosition
from nestrel.store.rows import Wire

router = APIRouter(prefix="/usage", route_class=JsonRoute, tags=["usage"])

_CSV_ROWS = 100_000
_CSV_PAGE = 5_000
_DEFAULT = timedelta(days=7)
_ANSWERS = documented(objects.UsagePage)
_ANSWERS[200] = {"model": objects.UsagePage, "content": {"text/csv": {}}}


@router.get("", responses=_ANSWERS)
@does(Action.SERVE)
async def listing(
    query: Annotated[UsageQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Response:
    """What was used, by the hour or the day (UTC), of the whole service, of conversations or of people; the last seven
    days unless said otherwise. At most 10 s late. Periods in which nothing was used are left out. With
    `Accept: text/csv` it is a table, whole."""
    question = _question(query)
    async with service.database.read() as connection:
        after = None
        if query.cursor is not None:
            if query.model_fields_set - {"limit", "cursor"}:
                raise invalid("/cursor", "a cursor stands for the whole query; send only limit beside it")
            question, key = await unsealed(connection, service, caller, "usage", query.cursor)
            at, _, id_ = key.partition(" ")
            after = UsagePosition(parse_time(at), id_)
        wanted = _wanted(question)
        if "text/csv" in request.headers.get("accept", ""):
            return Response(await _table(connection, wanted), media_type="text/csv; charset=utf-8")
        items, following = await usage.page(connection, wanted, query.limit, after)
        cursor = None
        if following is not None:
            key = f"{format_time(following.at)} {following.id}"
            cursor = await sealed(connection, service, caller, "usage", question, key)
    return Json({"items": items, "next": cursor}, headers=link_header(request, {"next": cursor}, query.limit))


def _question(query: UsageQuery) -> list[Any]:
    if query.of == "service" and query.id is not None:
        raise invalid("/id", "goes with of=conversation or of=person")
    if query.of == "conversation" and query.id is not None:
        try:
            UUID(query.id)
        except ValueError:
            raise invalid("/id", "must be the id of a conversation, a UUID") from None
    until = query.until or datetime.now(UTC) + timedelta(hours=1)
    since = query.since or until - _DEFAULT
    return [format_time(since), format_time(until), query.by, query.of, query.id]


def _wanted(question: list[Any]) -> UsageFilter:
    since, until, by, of, id_ = question
    return UsageFilter(parse_time(since), parse_time(until), by, Of(of), id_)


async def _table(connection: Connection, wanted: UsageFilter) -> str:
    """All of it as CSV (RFC 4180)."""
    text = io.StringIO()
    writer = csv.DictWriter(text, ("at", "id", *usage.FIELDS))
    writer.writeheader()
    rows, after = 0, None
    while True:
        items: list[Wire]
        items, after = await usage.page(connection, wanted, _CSV_PAGE, after)
        rows += len(items)
        if rows > _CSV_ROWS:
            raise TooLarge(f"this is more than {_CSV_ROWS:,} lines; ask for less time, or by day")
        writer.writerows({**item, "id": _plain(item["id"])} for item in items)
        if after is None:
            return text.getvalue()


def _plain(id_: str | None) -> str | None:
    """An id as a spreadsheet takes it for text, and never for a formula."""
    return f"'{id_}" if id_ and id_[0] in "=+-@\t\r" else id_
