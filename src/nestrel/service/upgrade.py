"""Who gets a WebSocket at all, and whose it is by its headers."""

from __future__ import annotations

from starlette.websockets import WebSocket

from nestrel.core.problems import (
    Forbidden,
    OverQuota,
    Problem,
    SlowDown,
    StoreUnavailable,
    Trouble,
    Unauthenticated,
)
from nestrel.service import cookies
from nestrel.service.http import bearer
from nestrel.service.rates import address_of
from nestrel.service.state import Service
from nestrel.service.tokens import Identity


async def refusal(service: Service, socket: WebSocket) -> Problem | None:
    """Why a page of somewhere else, a member with too many connections, or anyone while the service stops, gets no
    socket at all."""
    if service.draining:
        return StoreUnavailable("the service is stopping", retry_after=1, reason=Trouble.STOPPING)
    if socket.headers.get("authorization") is None and service.rates.address is not None:
        try:
            await service.rates.count(service.rates.address, address_of(socket.scope))
        except SlowDown as problem:
            return problem
    origin = socket.headers.get("origin")
    host, scheme = socket.headers.get("host", ""), socket.scope["scheme"]
    if origin is not None and not service.hosts.same_origin(origin, host, scheme):
        return Forbidden(f"pages of {origin[:200]} may not connect here; add it to NESTREL_ORIGINS")
    try:
        identity = await by_headers(service, socket)
        if identity is not None:
            await service.check_seats(identity)
    except (Forbidden, OverQuota, StoreUnavailable) as problem:
        return problem
    except Problem:
        return None  # which the connection says itself, in a frame
    return None


async def by_headers(service: Service, socket: WebSocket) -> Identity | None:
    """Who connects, by the `Authorization` header or a browser's session; None where neither is there.

    Raises:
        Unauthenticated, Forbidden: as `Service.sign_in`; and for a session on a page of somewhere else.
    """
    headers = socket.headers
    authorization, host = headers.get("authorization"), headers.get("host", "")
    if authorization is not None:
        return await service.sign_in(bearer(authorization))
    session = cookies.read(headers.get("cookie", ""), host)
    if session is None:
        return None
    cookies.check_origin(service.hosts, "CONNECT", headers.get("origin"), host, socket.scope["scheme"])
    try:
        return await service.sign_in_by_cookie(session)
    except Unauthenticated:
        return None  # which a page that signs in with a frame need not know of
