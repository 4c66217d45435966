"""A session for a browser."""

from __future__ import annotations

from fastapi import APIRouter, Request
from starlette.responses import Response

from nestrel.core.problems import Unauthenticated
from nestrel.core.rights import Action
from nestrel.service import cookies
from nestrel.service.access import does
from nestrel.service.http import CallerDep, JsonRoute, ServiceDep, documented
from nestrel.service.order_models import Nothing
from nestrel.service.tokens import Identity
from nestrel.store.write import sessions

router = APIRouter(prefix="/session", route_class=JsonRoute, tags=["profile"])


@router.post("", status_code=204, responses=documented(None, status=204))
@does(Action.OWN)
async def begin(request: Request, service: ServiceDep, caller: CallerDep, wanted: Nothing | None = None) -> Response:
    """Begin a session with a bearer token: where a browser cannot send a header, the cookie stands for you, until the
    token would have run out or its key is taken no more, and for 12 hours at most (`NESTREL_SESSION_SECONDS`). What
    changes something then has to come from the service's own origin."""
    identity: Identity = request.scope["nestrel.identity"]
    if identity.session is not None:
        raise Unauthenticated("a session begins with a bearer token")
    host = request.headers.get("host", "")
    cookie = cookies.made(service.seal, identity, host, service.settings.session_seconds)
    return Response(status_code=204, headers={"Set-Cookie": cookie})


@router.delete("", status_code=204, responses=documented(None, status=204))
@does(Action.OWN)
async def end(request: Request, service: ServiceDep, caller: CallerDep) -> Response:
    """End the session of the cookie: it is taken no more, also by whoever may have a copy of it."""
    host = request.headers.get("host", "")
    value: str | None = request.scope["nestrel.session"]
    if value is not None:
        try:
            identity = cookies.opened(service.seal, value)
        except Unauthenticated:
            pass  # which is over already
        else:
            assert identity.session is not None
            await sessions.end(service.database, identity.user_id, identity.session, identity.expires_at)
            service.bars.end_session(identity.session)
            await service.bars.look_now()
    return Response(status_code=204, headers={"Set-Cookie": cookies.gone(host)})
