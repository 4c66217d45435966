"""Around every HTTP request: its id, its size limit, its time and its line in the log."""

from __future__ import annotations

import re
import time
from secrets import token_hex

import structlog
from starlette.requests import ClientDisconnect
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from nestrel.core import limits
from nestrel.core.problems import InternalError, TooLarge
from nestrel.service import metrics, problems

log = structlog.get_logger()

_REQUEST_ID = re.compile(r"[A-Za-z0-9._-]{1,64}")
_SLOW_SECONDS = 1.0
_LARGE = {"batch": limits.BATCH_REQUEST_BYTES, "import": limits.IMPORT_BYTES}
"""Requests that may be larger than others, by the end of their paths."""


class Envelope:
    """Gives each request an id (the caller's own if it is a plain one), bounds its body, and measures it."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        declared, given = "", ""
        for name, value in scope["headers"]:
            if name == b"content-length":
                declared = value.decode("latin-1")
            elif name == b"x-request-id":
                given = value.decode("latin-1")
        request_id = given if _REQUEST_ID.fullmatch(given) else token_hex(8)
        scope["request_id"] = request_id
        status, started = 500, time.perf_counter()

        started_answer = False

        async def send_with_id(message: Message) -> None:
            nonlocal status, started_answer
            if message["type"] == "http.response.start":
                status, started_answer = message["status"], True
                message["headers"].append((b"x-request-id", request_id.encode()))
            await send(message)

        most = _LARGE.get(scope["path"].rpartition("/")[2], limits.REQUEST_BYTES)
        try:
            if declared.isdigit() and int(declared) > most:
                refusal = problems.response(TooLarge(f"a request of this kind has at most {most:,} bytes"), request_id)
                await refusal(scope, receive, send_with_id)
            else:
                await self._app(scope, _bounded(receive, most), send_with_id)
        except ClientDisconnect:
            status = 499  # nobody is left to answer
        except Exception:
            log.exception("request.failed", request_id=request_id, path=scope["path"])
            if not started_answer:
                bug = InternalError("this is a bug of the service; its log has the request id")
                await problems.response(bug, request_id)(scope, receive, send_with_id)
        finally:
            _record(scope, status, time.perf_counter() - started)


def _bounded(receive: Receive, most: int) -> Receive:
    """A body without a declared length is counted as it comes."""
    size = 0

    async def counted() -> Message:
        nonlocal size
        message = await receive()
        size += len(message.get("body", b""))
        if size > most:
            raise problems.BodyTooLarge(most)
        return message

    return counted


def _record(scope: Scope, status: int, seconds: float) -> None:
    route = scope.get("route")
    path = getattr(route, "path", "none")
    metrics.REQUEST_SECONDS.labels(scope["method"], path, str(status)).observe(seconds)
    quiet = status < 400 and seconds < _SLOW_SECONDS
    (log.debug if quiet else log.info)(
        "request",
        method=scope["method"],
        path=scope["path"],
        status=status,
        ms=round(seconds * 1000, 1),
        request_id=scope["request_id"],
    )
