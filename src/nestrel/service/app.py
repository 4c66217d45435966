"""The FastAPI application, put together from its parts."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI
from starlette.routing import WebSocketRoute

from nestrel import __version__
from nestrel.service import console, problems
from nestrel.service.front import Front
from nestrel.service.middleware import Envelope
from nestrel.service.routes import (
    archive,
    attachments,
    changes,
    conversations,
    erasures,
    invitations,
    me,
    members,
    message,
    messages,
    operations,
    people,
    reactions,
    receipt,
    resync,
    retention,
    search,
    streams,
    transfer,
)
from nestrel.service.settings import Settings
from nestrel.service.socket import Live
from nestrel.service.state import Service

_DESCRIPTION = (
    "The conversation store behind chat: ordered, durable messages, cursor-paginated history, live change sets. "
    "Every refusal is a problem document (RFC 9457)."
)


_DIRECT = (*messages.direct.routes, *resync.direct.routes)
_LIVE = "/v1/live"


def make_app(settings: Settings) -> FastAPI:
    """The application for these settings; it connects to the store when it starts."""
    service = Service(settings)

    @asynccontextmanager
    async def lifespan(_app: FastAPI) -> AsyncIterator[None]:
        await service.start()
        yield
        await service.stop()

    app = FastAPI(
        title="Nestrel",
        version=__version__,
        description=_DESCRIPTION,
        lifespan=lifespan,
        docs_url=None,
        redoc_url=None,
        redirect_slashes=False,
    )
    app.state.service = service
    app.router.routes.extend(_DIRECT)
    for resource in (
        messages, message, attachments, reactions, receipt, changes, streams, conversations, members, invitations,
        me, people, search, retention, archive, transfer, erasures,
    ):  # fmt: skip
        app.include_router(resource.router, prefix="/v1")
    app.include_router(operations.router)
    app.router.routes.append(WebSocketRoute(_LIVE, Live(service)))
    console.mount(app)
    problems.install(app)
    app.add_middleware(Envelope, service=service)

    return app


def in_front(app: FastAPI) -> Front:
    """The application as it is served."""
    service: Service = app.state.service
    return Front(app, service, _DIRECT, (_LIVE, Live(service)))
