"""The FastAPI application, put together from its parts."""

from __future__ import annotations

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from fastapi import FastAPI
from starlette.routing import WebSocketRoute

from nestrel import __version__
from nestrel.service import access, console, doors, openapi, problems
from nestrel.service.door import Live
from nestrel.service.front import Front
from nestrel.service.intake import Intakes
from nestrel.service.middleware import Envelope
from nestrel.service.routes import operations
from nestrel.service.settings import Settings
from nestrel.service.state import Service

_DESCRIPTION = (
    "The conversation store behind chat: ordered, durable messages, cursor-paginated history, live change sets. "
    "Every refusal is a problem document (RFC 9457)."
)


_DIRECT = tuple(route for router in doors.DIRECT for route in router.routes)
_LIVE = "/v1/live"
_INTAKES = Intakes(doors.routes())


def make_app(settings: Settings) -> FastAPI:
    """The application for these settings; it connects to the store when it starts. Raises `RuntimeError` for a door
    that nothing says who may use."""
    access.check_all(doors.routes(), doors.frame_actions())
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
    for router in doors.RESOURCES:
        app.include_router(router, prefix=doors.PREFIX)
    app.include_router(operations.router)
    app.router.routes.append(WebSocketRoute(_LIVE, Live(service)))
    console.mount(app, settings)
    problems.install(app)
    openapi.install(app)
    app.add_middleware(Envelope, service=service, intakes=_INTAKES)

    return app


def in_front(app: FastAPI) -> Front:
    """The application as it is served."""
    service: Service = app.state.service
    return Front(app, service, _DIRECT, (_LIVE, Live(service)), _INTAKES)
