"""Webhooks: what has changed, sent to an address of a trusted backend's own."""

from __future__ import annotations

import time
from datetime import datetime
from secrets import token_bytes
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request
from starlette.responses import Response

from nestrel.core import targets
from nestrel.core import webhook_objects as objects
from nestrel.core.cursors import ResyncPosition
from nestrel.core.ids import uuid7
from nestrel.core.problems import invalid
from nestrel.core.rights import Action
from nestrel.core.webhooks import SECRET_BYTES, State, Webhook, secret_of, secret_text
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented, link_header
from nestrel.service.listing import all_since, listed, opened
from nestrel.service.models import ListQuery
from nestrel.service.sending import owner
from nestrel.service.state import Service
from nestrel.service.webhook_models import ChangeWebhook, MakeWebhook, ReplayWebhook
from nestrel.store import snapshots
from nestrel.store.native import Connection
from nestrel.store.read import webhooks as reading
from nestrel.store.read.resync import NOTHING
from nestrel.store.rows import Wire
from nestrel.store.write import webhooks

router = APIRouter(prefix="/webhooks", route_class=JsonRoute, tags=["webhooks"])

_LAST = 2**62


def _check_url(service: Service, url: str) -> None:
    try:
        targets.parse(url, service.handlers.to_webhooks.allowed)
    except ValueError as error:
        raise invalid("/url", str(error)) from None


async def _shown(service: Service, connection: Connection, hook: Webhook, cursor: str) -> Wire:
    at = service.seal.open_all(owner(hook.id), cursor)
    anew = isinstance(at, ResyncPosition) and at.since is None
    known = at.upto if isinstance(at, ResyncPosition) and anew else all_since(at)
    behind, replaying = 0.0, None
    if hook.state is not State.STOPPED:
        behind = await reading.behind(connection, known.snapshot, hook.conversation_id)
    if hook.replay is not None:
        replaying = await reading.progress(connection, hook.replay.after, hook.conversation_id, hook.replay.since)
    elif isinstance(at, ResyncPosition) and anew:
        replaying = await reading.progress(connection, at.after, hook.conversation_id)
    return {**hook.wire(), "cursor": cursor, "replaying": replaying, "behind": round(behind, 3)}


@router.post("", status_code=201, responses=documented(objects.WebhookMade, status=201))
@does(Action.SERVE)
async def make(wanted: MakeWebhook, service: ServiceDep, caller: CallerDep) -> Json:
    """Make a webhook: from now on all that changes, in all conversations or in one, is sent to an address, in order in
    each conversation and at least once, signed as the Standard Webhooks specification says. The secret is in this
    answer alone."""
    _check_url(service, wanted.url)
    secret = secret_of(wanted.secret) if wanted.secret is not None else token_bytes(SECRET_BYTES)
    id_ = uuid7(int(time.time() * 1000), token_bytes(10))
    async with service.database.read() as connection:
        cursor = service.seal.all(owner(id_), await snapshots.now(connection))
    made = await webhooks.make(
        service.database, caller, id_, wanted.url, wanted.type, wanted.conversation_id, secret, cursor
    )
    service.consumers.look()
    shown = {**made.wire(), "cursor": cursor, "replaying": None, "behind": 0.0, "secret": secret_text(secret)}
    return Json(shown, 201)


@router.get("", responses=documented(objects.WebhookPage))
@does(Action.SERVE)
async def listing(
    query: Annotated[ListQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """The webhooks, the oldest first, and how far behind each is."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        found, following = await reading.page(connection, query.limit, UUID(after) if after else NOTHING)
        items = [await _shown(service, connection, hook, cursor) for hook, cursor in found]
        return items, str(following) if following is not None else None

    return await listed(request, service, caller, query, "webhooks", read, "created_by")


@router.get("/{webhook_id}", responses=documented(objects.Webhook))
@does(Action.SERVE)
async def show(webhook_id: UUID, service: ServiceDep, caller: CallerDep) -> Json:
    """One webhook."""
    async with service.database.read() as connection:
        hook, cursor = await reading.one(connection, webhook_id)
        return Json(await _shown(service, connection, hook, cursor))


@router.patch("/{webhook_id}", responses=documented(objects.Webhook))
@does(Action.SERVE)
async def change(webhook_id: UUID, wanted: ChangeWebhook, service: ServiceDep, caller: CallerDep) -> Json:
    """Change its address or its secret, pause it, or let it go on: from its cursor, and at once. While a secret is
    changed, the one before signs too for 24 hours."""
    if wanted.url is not None:
        _check_url(service, wanted.url)
    if wanted.state is State.STOPPED:
        raise invalid("/state", "is active or paused; a webhook is stopped by what its receiver answers")
    secret = secret_of(wanted.secret) if wanted.secret is not None else None
    hook, cursor = await webhooks.change(service.database, caller, webhook_id, wanted.url, wanted.state, secret)
    service.consumers.look()
    async with service.database.read() as connection:
        return Json(await _shown(service, connection, hook, cursor))


@router.delete("/{webhook_id}", status_code=204, responses=documented(None, status=204))
@does(Action.SERVE)
async def delete(webhook_id: UUID, service: ServiceDep, caller: CallerDep) -> Response:
    """Take it away; a request that is under way may still arrive."""
    await webhooks.delete(service.database, caller, webhook_id)
    service.consumers.look()
    return Response(status_code=204)


@router.get("/{webhook_id}/deliveries", responses=documented(objects.WebhookDeliveryPage))
@does(Action.SERVE)
async def deliveries(
    webhook_id: UUID, query: Annotated[ListQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """What came of its last requests, the newest first; of the last hundred."""
    of, before = f"deliveries {webhook_id}", _LAST
    if query.cursor is not None:
        before = int(opened(service.seal.open_listing, caller.user_id, of, query.cursor))
    async with service.database.read() as connection:
        await reading.one(connection, webhook_id)
        items, following = await reading.deliveries(connection, webhook_id, query.limit, before)
    cursor = service.seal.listing(caller.user_id, of, str(following)) if following is not None else None
    headers = link_header(request, {"next": cursor}, query.limit)
    return Json({"items": items, "next": cursor}, headers=headers)


@router.post("/{webhook_id}/replay", status_code=202, responses=documented(objects.Webhook, status=202))
@does(Action.SERVE)
async def replay(webhook_id: UUID, wanted: ReplayWebhook, service: ServiceDep, caller: CallerDep) -> Json:
    """Send again what changed behind a cursor of its own, or messages made since a time, as they now stand; what is new
    comes between them. `from` the `start` sends everything that is kept anew, each conversation with `reset`, members
    too; what is new comes behind it."""
    if (wanted.cursor is None) == (wanted.since is None):
        raise invalid("/cursor", "send either a cursor of this webhook's, or from, a time or start")
    cursor, since, everything = wanted.cursor, None, wanted.since == "start"
    if cursor is not None:
        opened(service.seal.open_all, owner(webhook_id), cursor)
    elif isinstance(wanted.since, datetime):
        since = wanted.since
    else:
        async with service.database.read() as connection:
            nothing = ResyncPosition(None, await snapshots.now(connection), NOTHING)
        cursor = service.seal.all(owner(webhook_id), nothing)
    await webhooks.replay(service.database, caller, webhook_id, cursor, since, everything=everything)
    service.consumers.look()
    async with service.database.read() as connection:
        hook, cursor = await reading.one(connection, webhook_id)
        return Json(await _shown(service, connection, hook, cursor), 202)
