"""Which requests become a WebSocket, and who they are from by their headers."""

from __future__ import annotations

from dataclasses import dataclass

from starlette.websockets import WebSocket

from nestrel.core.problems import (
    Forbidden,
    OverQuota,
    Problem,
    StoreUnavailable,
    Unauthenticated,
)
from nestrel.service import cookies
from nestrel.service.http import bearer
from nestrel.service.rates import address_of
from nestrel.service.state import Service
from nestrel.service.tokens import Identity


@dataclass(frozen=True, slots=True)
class Arrival:
    """Who connects, as far as the headers say: nobody yet, somebody, or somebody whose token is not taken, which the
    connection tells them in a frame."""

    identity: Identity | None = None
    problem: Problem | None = None


async def arrival(service: Service, socket: WebSocket) -> Arrival:
    """Let a WebSocket in.

    Raises:
        Problem: a page of somewhere else, a member with too many connections, or anyone whom this process cannot take
            now, gets no socket at all.
    """
    shed = service.shedding.refusal(draining=service.draining)
    if shed is not None:
        raise shed
    headers = socket.headers
    if headers.get("authorization") is None and service.rates.address is not None:
        await service.rates.count(service.rates.address, address_of(socket.scope))
    origin = headers.get("origin")
    hosts = service.hosts
    own = origin is None or hosts.same_origin(origin, headers.get("host", ""), socket.scope["scheme"])
    if origin is not None and not own and not hosts.origins.may_call(origin):
        raise hosts.origins.refusal(origin)
    try:
        identity = await by_headers(service, socket, session_counts=own)
        if identity is not None:
            await service.check_seats(identity)
        return Arrival(identity)
    except (Forbidden, OverQuota, StoreUnavailable):
        raise
    except Problem as problem:
        return Arrival(problem=problem)


async def by_headers(service: Service, socket: WebSocket, *, session_counts: bool) -> Identity | None:
    """Who connects, by the `Authorization` header or a browser's session, if that counts; None where neither is there.

    Raises:
        Unauthenticated, Forbidden: as `Service.sign_in`; and for a session on a page of somewhere else.
    """
    headers = socket.headers
    authorization, host = headers.get("authorization"), headers.get("host", "")
    if authorization is not None:
        return await service.sign_in(bearer(authorization))
    session = cookies.read(headers.get("cookie", ""), host)
    if session is None or not session_counts:
        return None
    cookies.check_origin(service.hosts, "CONNECT", headers.get("origin"), host, socket.scope["scheme"])
    try:
        return await service.sign_in_by_cookie(session)
    except Unauthenticated:
        return None  # which a page that signs in with a frame need not know of
