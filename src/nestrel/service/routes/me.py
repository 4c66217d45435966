"""One's own profile."""

from __future__ import annotations

from fastapi import APIRouter

from nestrel.core.callers import Caller
from nestrel.core.objects import Me
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.models import ChangeProfile
from nestrel.service.state import Service
from nestrel.store.read import profiles, receipts
from nestrel.store.write import profiles as changing

router = APIRouter(route_class=JsonRoute, tags=["profile"])


@router.get("/me", responses=documented(Me))
@does(Action.OWN)
async def show_me(service: ServiceDep, caller: CallerDep) -> Json:
    """Your own profile, and what you have not read in all; at first sight the profile is made from your token."""
    return await _me(service, caller)


@router.patch("/me", responses=documented(Me))
@does(Action.OWN)
async def change_me(wanted: ChangeProfile, service: ServiceDep, caller: CallerDep) -> Json:
    """Change your profile; everyone who shares a conversation with you sees the new one at once. Where names are one
    person's alone, one that is taken, or looks as if, is refused (409). Where profiles are as tokens or a backend say
    (`NESTREL_PROFILES`), this is 403."""
    service.settings.profiles.check_own_change()
    await changing.change(service.database, caller.user_id, wanted.model_dump(exclude_unset=True), service.skeletons)
    return await _me(service, caller)


async def _me(service: Service, caller: Caller) -> Json:
    async with service.database.read() as connection:
        found = await profiles.read(connection, [caller.user_id])
        unread = await receipts.unread_in_all(connection, caller.user_id)
    return Json({**found[caller.user_id], "unread": unread})
