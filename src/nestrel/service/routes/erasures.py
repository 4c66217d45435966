"""Erasing a person, and the records of it; for a trusted backend."""

from __future__ import annotations

import os
import time
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request, Response

from nestrel.core.ids import uuid7
from nestrel.core.kept_objects import Erasure, ErasurePage, ErasurePreview
from nestrel.core.problems import ConfirmNeeded, NotFound
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.intake import Counted, takes
from nestrel.service.listing import listed
from nestrel.service.models import ListQuery
from nestrel.service.retention_models import AskErasure, ErasePerson
from nestrel.store.keep import erasing
from nestrel.store.native import Connection
from nestrel.store.read import profiles
from nestrel.store.rows import Wire

router = APIRouter(prefix="/erasures", route_class=JsonRoute, tags=["erasures"])

_NEWEST = UUID(int=2**128 - 1)


async def _preview(connection: Connection, user_id: str) -> Wire:
    extent = await erasing.extent(connection, user_id)
    profile = (await profiles.read(connection, [user_id]))[user_id]
    return {
        "user_id": user_id,
        "display_name": profile["display_name"],
        "messages": extent.messages,
        "archived": extent.archived,
        "conversations": extent.conversations,
    }


@router.post("/preview", responses=documented(ErasurePreview))
@does(Action.SERVE)
@takes(counted=Counted.READ)
async def preview(wanted: AskErasure, service: ServiceDep, caller: CallerDep) -> Json:
    """What erasing someone would empty; nothing changes."""
    async with service.database.read() as connection:
        return Json(await _preview(connection, wanted.user_id))


@router.post("", status_code=201, responses=documented(Erasure, status=201))
@does(Action.SERVE)
async def begin(wanted: ErasePerson, service: ServiceDep, caller: CallerDep) -> Json:
    """Erase someone: their profile at once, and what they have written until now in the background, in every
    conversation and in the archive. It wants `confirm: true`; without it the refusal (409) shows the preview. With
    `identity` nothing says any more that they were here: memberships, reactions, receipts, mentions, devices and
    preferences go, and where an author is shown it is `shown_as`; whoever signs in with the old `sub` is refused (401)
    until the erasure is deleted."""
    if not wanted.confirm:
        async with service.database.read() as connection:
            found = await _preview(connection, wanted.user_id)
        raise ConfirmNeeded(
            f"this empties {found['messages'] + found['archived']:,} messages for good; send confirm: true to go ahead",
            extra={"preview": found},
        )
    id_ = uuid7(time.time_ns() // 1_000_000, os.urandom(10))
    erasure = await erasing.begin(service.database, id_, wanted.user_id, caller, identity=wanted.identity)
    if wanted.identity:
        await service.bars.look_now()
    await service.erasures.empty_profile(wanted.user_id)
    service.erasures.wanted.set()
    return Json(erasure.wire(), 201, {"Location": f"/v1/erasures/{id_}"})


@router.get("", responses=documented(ErasurePage))
@does(Action.SERVE)
async def listing(
    query: Annotated[ListQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """The records, newest first; they stay, but those of identities that were given back."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        items, following = await erasing.page(connection, query.limit, UUID(after) if after else _NEWEST)
        return [item.wire() for item in items], str(following) if following is not None else None

    return await listed(request, service, caller, query, "erasures", read)


@router.get("/{erasure_id}", responses=documented(Erasure))
@does(Action.SERVE)
async def show(erasure_id: UUID, service: ServiceDep, caller: CallerDep) -> Json:
    """One record, and how far it has come."""
    async with service.database.read() as connection:
        found = await erasing.show(connection, erasure_id)
    if found is None:
        raise NotFound(f"there is no erasure {erasure_id}")
    return Json(found.wire())


@router.delete("/{erasure_id}", status_code=204, responses=documented(None, status=204))
@does(Action.SERVE)
async def lift(erasure_id: UUID, service: ServiceDep, caller: CallerDep) -> Response:
    """Let an identity that was erased be somebody's again, as one who was never here; the record of the erasure goes,
    and the audit has both. Of one that left the identity, or that is under way, this is 422."""
    await erasing.delete(service.database, erasure_id, caller)
    await service.bars.look_now()
    return Response(status_code=204)
