"""Search over the conversations that one may read."""

from __future__ import annotations

from typing import Annotated, Any
from uuid import UUID

from fastapi import APIRouter, Query, Request

from nestrel.core.objects import SearchPage
from nestrel.core.paging import MessagePosition
from nestrel.core.problems import NotFound, invalid
from nestrel.core.rights import Action
from nestrel.core.search import question
from nestrel.core.times import format_time, parse_time
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented, link_header
from nestrel.service.models import SearchQuery
from nestrel.service.questions import sealed, unsealed
from nestrel.store import rows
from nestrel.store.access import see
from nestrel.store.read import called, profiles, search
from nestrel.store.read.search import LAST, SearchFilter

router = APIRouter(prefix="/search", route_class=JsonRoute, tags=["search"])


@router.get("", responses=documented(SearchPage))
@does(Action.OWN, Action.SEE)
async def find(
    query: Annotated[SearchQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """Messages of your conversations that have all words of `q`, newest first: `"a phrase"`, `begin*`, and `-` before
    what must not be there. An open conversation that you have not joined is searched when `conversation_id` names it.
    A page may be short, or empty, while there is a `next`."""
    if not service.settings.search:
        raise NotFound("this service keeps no search index (NESTREL_SEARCH)")
    async with service.database.read() as connection, connection.transaction("repeatable_read", readonly=False):
        asked, after = _asked(query), LAST
        if query.cursor is not None:
            if query.model_fields_set - {"limit", "cursor"}:
                raise invalid("/cursor", "a cursor stands for the whole query; send only limit beside it")
            asked, key = await unsealed(connection, service, caller, "search", query.cursor)
            after = MessagePosition.of_key(key)
        wanted = _wanted(asked)
        if wanted.conversation_id is not None:
            await see(connection, wanted.conversation_id, caller, Action.SEE)
        found = await search.find(connection, caller, wanted, query.limit, after, service.replicas)
        items = await search.wires(connection, found.hits)
        shown = [item["message"] for item in items]
        people = await profiles.read(connection, rows.people(shown, []))
        names = await called.read(connection, [hit.place.conversation_id for hit in found.hits])
        cursor = None
        if found.following is not None:
            cursor = await sealed(connection, service, caller, "search", asked, found.following.key())
    answer = {"items": items, "next": cursor, "profiles": people, "conversations": names}
    return Json(answer, headers=link_header(request, {"next": cursor}, query.limit))


def _asked(query: SearchQuery) -> list[Any]:
    place = query.conversation_id
    return [
        query.q,
        None if place is None else str(place),
        query.author,
        None if query.since is None else format_time(query.since),
        None if query.until is None else format_time(query.until),
    ]


def _wanted(asked: list[Any]) -> SearchFilter:
    q, place, author, since, until = asked
    return SearchFilter(
        question(q or ""),
        UUID(place) if place else None,
        author,
        parse_time(since) if since else None,
        parse_time(until) if until else None,
    )
