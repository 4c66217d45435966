"""For whoever runs the service: health, readiness, metrics, and the documents that describe it."""

from __future__ import annotations

from fastapi import APIRouter, Request
from starlette.responses import PlainTextResponse, Response

from nestrel import __version__
from nestrel.core.problems import NotFound
from nestrel.service import asyncapi, metrics
from nestrel.service.hosts import is_loopback
from nestrel.service.http import Json, ServiceDep

router = APIRouter(tags=["operations"])


@router.get("/healthz")
async def healthz() -> Json:
    """The process lives."""
    return Json({"status": "ok", "version": __version__})


@router.get("/readyz", responses={503: {"description": "Not ready; `status` says why"}})
async def readyz(service: ServiceDep) -> Json:
    """The store answers and its schema is current; 503 with the reason if not, or while draining."""
    await service.check_ready()
    return Json({"status": "ready"})


@router.get("/metrics", response_class=PlainTextResponse)
async def read_metrics(request: Request, service: ServiceDep) -> Response:
    """Prometheus text format. On this port for callers on this machine alone, and for none that a proxy speaks for;
    `NESTREL_METRICS_PORT` gives it a port of its own."""
    forwarded = any(name == b"forwarded" or name.startswith(b"x-forwarded-") for name, _ in request.scope["headers"])
    client = request.scope.get("client")
    if service.settings.metrics_port or forwarded or not is_loopback(client[0] if client else ""):
        raise NotFound("there is nothing at this address; /openapi.json lists what there is")
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
    return Json({"issuer": issuer, "paste_token": bool(settings.secrets), "version": __version__})
