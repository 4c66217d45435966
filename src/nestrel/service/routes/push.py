"""Devices that are told of messages while their person is not here: web push (RFC 8030, 8291, 8292)."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from secrets import token_bytes
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request
from pydantic import Field, StrictFloat, StrictInt, StrictStr
from starlette.responses import Response

from nestrel.core import order_objects as objects
from nestrel.core import targets
from nestrel.core.ids import uuid7
from nestrel.core.problems import invalid
from nestrel.core.rights import Action
from nestrel.service import fields
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.listing import listed
from nestrel.service.models import ListQuery
from nestrel.service.push_keys import AUTH_BYTES, check_point, decoded
from nestrel.store.native import Connection
from nestrel.store.read.resync import NOTHING
from nestrel.store.rows import Wire
from nestrel.store.write import subscriptions
from nestrel.store.write.subscriptions import Subscription

router = APIRouter(route_class=JsonRoute, tags=["notices"])

_LATEST_MS = 253_402_300_799_000


class DeviceKeys(fields.Request):
    p256dh: Annotated[StrictStr, Field(max_length=200, description="a public key on P-256, in base64url")]
    auth: Annotated[StrictStr, Field(max_length=100, description="16 bytes in base64url")]


class PutSubscription(fields.Request):
    """What a browser's `PushSubscription.toJSON()` gives."""

    endpoint: Annotated[StrictStr, Field(min_length=1, max_length=2_000)]
    keys: DeviceKeys
    expiration: Annotated[StrictInt | StrictFloat, Field(ge=0, le=_LATEST_MS)] | None = Field(
        default=None, alias="expirationTime", description="in milliseconds since 1970"
    )


@router.get("/push-key", responses=documented(objects.PushKey))
@does(Action.OWN)
async def key(service: ServiceDep, caller: CallerDep) -> Json:
    """The public key of the service, which a browser wants when it subscribes (RFC 8292), in base64url."""
    await service.load_seal()
    return Json({"key": service.push_key.public})


@router.put(
    "/me/push-subscriptions",
    responses=documented(objects.PushSubscription, s201=objects.PushSubscription),
)
@does(Action.OWN)
async def put(wanted: PutSubscription, request: Request, service: ServiceDep, caller: CallerDep) -> Json:
    """Have a device told of messages; with what its browser's push service gave it. It is yours alone from then on,
    whoever had it before, until you are signed out."""
    now = datetime.now(UTC)
    expires_at = None if wanted.expiration is None else datetime.fromtimestamp(wanted.expiration / 1000, UTC)
    endpoint, keys = _endpoint(wanted, service.handlers.to_devices.allowed), _keys(wanted)
    id_ = uuid7(int(time.time() * 1000), token_bytes(10))
    device = Subscription(id_, caller.user_id, endpoint, *keys, expires_at, now)
    kept, new = await subscriptions.put(service.database, caller, device)
    return Json(kept.wire(), 201 if new else 200)


def _endpoint(wanted: PutSubscription, allowed: targets.Allowed) -> str:
    try:
        targets.parse(wanted.endpoint, allowed)
    except ValueError as error:
        raise invalid("/endpoint", str(error)) from None
    return wanted.endpoint


def _keys(wanted: PutSubscription) -> tuple[bytes, bytes]:
    try:
        p256dh = check_point(decoded(wanted.keys.p256dh))
    except ValueError as error:
        raise invalid("/keys/p256dh", str(error)) from None
    try:
        auth = decoded(wanted.keys.auth)
    except ValueError as error:
        raise invalid("/keys/auth", str(error)) from None
    if len(auth) != AUTH_BYTES:
        raise invalid("/keys/auth", f"must be {AUTH_BYTES} bytes (RFC 8291, 3.2); these are {len(auth)}")
    return p256dh, auth


@router.get("/me/push-subscriptions", responses=documented(objects.PushSubscriptionPage))
@does(Action.OWN)
async def listing(
    query: Annotated[ListQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> Json:
    """Your devices, the oldest first."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        found, following = await subscriptions.page(
            connection, caller.user_id, query.limit, UUID(after) if after else NOTHING
        )
        return [one.wire() for one in found], str(following) if following is not None else None

    return await listed(request, service, caller, query, "devices", read)


@router.delete("/me/push-subscriptions/{subscription_id}", status_code=204, responses=documented(None, status=204))
@does(Action.OWN)
async def delete(subscription_id: UUID, service: ServiceDep, caller: CallerDep) -> Response:
    """Tell a device nothing more."""
    await subscriptions.delete(service.database, caller.user_id, subscription_id)
    return Response(status_code=204)
