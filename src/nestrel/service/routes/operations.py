"""For whoever runs the service: health, readiness, metrics, and the documents that describe it."""

from __future__ import annotations

from fastapi import APIRouter
from starlette.responses import PlainTextResponse, Response

from nestrel import __version__
from nestrel.service import asyncapi, metrics
from nestrel.service.http import Json, ServiceDep

router = APIRouter(tags=["operations"])


@router.get("/healthz")
async def healthz() -> Json:
    """The process lives."""
    return Json({"status": "ok", "version": __version__})


@router.get("/readyz", responses={503: {"description": "Not ready; `status` says why"}})
async def readyz(service: ServiceDep) -> Json:
    """The store answers and its schema is current; 503 with the reason if not, or while draining."""
    ready, reason = await service.ready()
    return Json({"status": reason}, 200 if ready else 503)


@router.get("/metrics", response_class=PlainTextResponse)
async def read_metrics() -> Response:
    """Prometheus text format."""
    return Response(metrics.exposition(), media_type="text/plain; version=0.0.4; charset=utf-8")


@router.get("/asyncapi.json", include_in_schema=False)
async def read_asyncapi() -> Json:
    """The WebSocket's frames, as AsyncAPI 3."""
    return Json(asyncapi.document())


@router.get("/console/config.json", include_in_schema=False)
async def console_config(service: ServiceDep) -> Json:
    """What the console needs to know before anyone has signed in."""
    settings = service.settings
    issuer = {"authority": settings.issuer, "client_id": settings.client_id} if settings.jwks_url else None
    return Json({"issuer": issuer, "paste_token": settings.jwt_secret is not None, "version": __version__})
