"""The FastAPI application, put together from its parts."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI
from starlette.routing import WebSocketRoute

from nestrel import __version__
from nestrel.service import console, problems
from nestrel.service.middleware import Envelope
from nestrel.service.routes import (
    archive,
    changes,
    conversations,
    erasures,
    me,
    members,
    message,
    messages,
    operations,
    reactions,
    receipt,
    resync,
    retention,
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
    # Routes are asked in this order: the busiest first, and those not as a router of their own, which is asked twice.
    app.router.routes.extend(messages.direct.routes)
    app.router.routes.extend(resync.direct.routes)
    for resource in (
        messages, message, reactions, receipt, changes, streams, conversations, members, me,
        retention, archive, transfer, erasures,
    ):  # fmt: skip
        app.include_router(resource.router, prefix="/v1")
    app.include_router(operations.router)
    app.router.routes.append(WebSocketRoute("/v1/live", Live(service)))
    console.mount(app)
    problems.install(app)
    app.add_middleware(Envelope, service=service)

    return app
