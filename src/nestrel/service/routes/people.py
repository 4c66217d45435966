"""People: the directory, one profile, and what one person has said."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request
from starlette.responses import Response, StreamingResponse

from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.objects import PeoplePage, Profile, SaidPage
from nestrel.core.paging import MessagePosition
from nestrel.core.problems import Forbidden, NotFound, invalid
from nestrel.core.rights import Action
from nestrel.service import personal
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented, documented_text, link_header
from nestrel.service.listing import opened
from nestrel.service.models import PeopleQuery, PutPerson, SaidQuery
from nestrel.service.questions import sealed, unsealed
from nestrel.service.routes.members import UserPath, resolve
from nestrel.service.state import Service
from nestrel.store import rows
from nestrel.store.native import Connection
from nestrel.store.read import called, people, profiles, said
from nestrel.store.rows import Wire
from nestrel.store.write import audit
from nestrel.store.write import profiles as writing

router = APIRouter(prefix="/people", route_class=JsonRoute, tags=["people"])

_MESSAGES = "/messages"
_EXPORT = "/export"
_ZIP = documented_text("A ZIP", "application/zip")


def viewer_of(service: Service, caller: Caller) -> str | None:
    """Through whose eyes the directory is seen; None where everyone is."""
    return None if caller.service or service.settings.directory == "all" else caller.user_id


async def seen(connection: Connection, service: Service, caller: Caller, user_id: str) -> str:
    """The id of someone whom the caller may see.

    Raises:
        NotFound: there is nobody such, as far as the caller may know.
    """
    who = caller.user_id if user_id == "me" else user_id
    if who != caller.user_id and not await people.visible(connection, viewer_of(service, caller), who):
        raise NotFound(f"there is nobody called {user_id!r} whom you may see")
    return who


@router.get("", responses=documented(PeoplePage))
@does(Action.OWN)
async def listing(
    query: Annotated[PeopleQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """Whom you can see: who is or was in a conversation with you. `q` finds by the beginning of any word of a name or
    an id; case and accents do not matter. A page may be short while there is a `next`. `scope=all`: everyone, by id,
    for a trusted backend; there each page is full until the last."""
    async with service.database.read() as connection:
        question, after = [query.q, query.scope or ""], ""
        if query.cursor is not None:
            if query.model_fields_set - {"limit", "cursor"}:
                raise invalid("/cursor", "a cursor stands for the whole query; send only limit beside it")
            question, after = await unsealed(connection, service, caller, "people", query.cursor)
        q, scope = question[0] or "", question[1]
        if scope == "all" and not caller.service:
            raise Forbidden("only a trusted backend (scope nestrel.service) lists everyone")
        if scope == "all" and not q.strip():
            found, following = await people.everyone(connection, query.limit, after)
        else:
            viewer = viewer_of(service, caller)
            found, following = await people.find(connection, viewer, q, query.limit, after or None)
        known = await profiles.read(connection, found)
        cursor = None
        if following is not None:
            cursor = await sealed(connection, service, caller, "people", question, following)
    answer = {"items": [known[user_id] for user_id in found], "next": cursor}
    return Json(answer, headers=link_header(request, {"next": cursor}, query.limit))


@router.get("/{user_id:path}/messages", responses=documented(SaidPage))
@does(Action.OWN)
async def messages(
    user_id: UserPath,
    query: Annotated[SaidQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Json:
    """What someone has said in your conversations, without what was removed, newest first unless `order` says
    otherwise."""
    if not request.scope["raw_path"].endswith(_MESSAGES.encode()):
        return await show(user_id + _MESSAGES, service, caller)  # an id that ends so, percent-encoded
    of = f"said {user_id}"
    descending, older, after = query.order != "asc", query.order != "asc", None
    if query.cursor is not None:
        if query.order is not None:
            raise invalid("/cursor", "a cursor stands for the whole query; send only limit beside it")
        key = opened(service.seal.open_listing, caller.user_id, of, query.cursor)
        descending, older, after = key[0] == "d", key[1] == "o", MessagePosition.of_key(key[2:])
    viewer = None if caller.service else caller.user_id
    async with service.database.read() as connection:
        who = await seen(connection, service, caller, user_id)
        page = await said.page(connection, viewer, who, query.limit, older=older, after=after)
        items = page.items if older == descending else page.items[::-1]
        beyond = {older: page.last if page.more else None}
        back = await said.page(connection, viewer, who, 1, older=not older, after=page.first or after)
        beyond[not older] = (page.first or after) if back.items else None
        known = await profiles.read(connection, rows.people(items, []))
        names = await called.read(connection, [UUID(item["conversation_id"]) for item in items])

    def cursor(to_older: bool) -> str | None:
        at = beyond[to_older]
        if at is None:
            return None
        key = f"{'d' if descending else 'a'}{'o' if to_older else 'n'}{at.key()}"
        return service.seal.listing(caller.user_id, of, key)

    cursors = {"older": cursor(True), "newer": cursor(False)}
    answer: Wire = {"items": items, **cursors, "profiles": known, "conversations": names}
    return Json(answer, headers=link_header(request, cursors, query.limit))


@router.get("/{user_id:path}/export", response_class=StreamingResponse, responses=_ZIP)
@does(Action.OWN)
async def export(user_id: UserPath, request: Request, service: ServiceDep, caller: CallerDep) -> Response:
    """All that a person wrote, and all that is kept about them, as of now: a ZIP of `*.jsonl` and `files/`. For the
    person, and for a trusted backend."""
    if not request.scope["raw_path"].endswith(_EXPORT.encode()):
        return await show(user_id + _EXPORT, service, caller)
    who = resolve(user_id, caller)
    if who != caller.user_id and not caller.service:
        raise Forbidden("what is kept about somebody is for them and for a trusted backend")
    service.exports.check()
    if who != caller.user_id:
        async with service.database.write() as connection:
            await audit.record(connection, caller, Act.EXPORTED, user_id=who)
    parts = personal.pack(service, who, request.scope.get("nestrel.connection"))
    headers = {"Content-Disposition": 'attachment; filename="export.zip"'}
    return StreamingResponse(parts, media_type="application/zip", headers=headers)


@router.put("/{user_id:path}", responses=documented(Profile, s201=Profile))
@does(Action.SERVE)
async def put(user_id: UserPath, wanted: PutPerson, service: ServiceDep, caller: CallerDep) -> Json:
    """Make somebody's profile before they sign in, or set what is named of the one that is there; by a trusted
    backend. They are in the directory from then on, and members of what is everyone's."""
    who = resolve(user_id, caller)
    new = await writing.put(service.database, caller, who, wanted.model_dump(exclude_unset=True), service.skeletons)
    async with service.database.read() as connection:
        return Json((await profiles.read(connection, [who]))[who], 201 if new else 200)


@router.get("/{user_id:path}", responses=documented(Profile))
@does(Action.OWN)
async def show(user_id: UserPath, service: ServiceDep, caller: CallerDep) -> Json:
    """One person's profile; 404 for whom you cannot see."""
    async with service.database.read() as connection:
        who = await seen(connection, service, caller, user_id)
        return Json((await profiles.read(connection, [who]))[who])
