"""Every refusal as a problem document (RFC 9457), whatever raised it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from pydantic_core import ErrorDetails
from starlette.exceptions import HTTPException
from starlette.responses import Response
from starlette.routing import Match

from nestrel.core.problems import (
    InvalidRequest,
    MethodNotAllowed,
    NotFound,
    Problem,
    TooLarge,
    fault,
)
from nestrel.service import metrics
from nestrel.store import rows

_METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE")


class WhileRead(HTTPException):
    """A refusal that comes while a body is read, in the one form that the framework does not take for JSON that is
    none."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.status, problem.detail)
        self.problem = problem


def response(problem: Problem, request_id: str | None, allow: str | None = None) -> Response:
    metrics.REFUSALS.labels(problem.name).inc()
    headers = {"Retry-After": str(problem.retry_after)} if problem.retry_after is not None else {}
    if allow is not None:
        headers["Allow"] = allow
    if problem.status == 401:
        headers["WWW-Authenticate"] = 'Bearer realm="nestrel"'
    if problem.status == 426:
        headers |= {"Upgrade": "websocket", "Connection": "Upgrade"}
    return Response(
        rows.dump(problem.document(request_id)), problem.status, headers, media_type="application/problem+json"
    )


def from_validation(errors: Sequence[ErrorDetails | dict[str, Any]], *, skip: int = 1) -> InvalidRequest:
    """Pydantic's findings with JSON pointers; `skip` drops the leading `body` or `query` of each location."""
    faults = []
    for error in errors:
        location = error["loc"][skip:]
        if error["type"] == "json_invalid":
            reason = error.get("ctx", {}).get("error", "")
            faults.append(fault("", f"is not valid JSON: {reason}"))
            continue
        detail = str(error["msg"]).removeprefix("Value error, ")
        if error["type"] == "extra_forbidden":
            detail = "is not a field of this request; leave it out"
        elif error["type"] in ("dict_type", "model_attributes_type", "model_type") and not location:
            detail = "must be a JSON object, sent with Content-Type: application/json"
        faults.append(fault("".join(f"/{_escape(part)}" for part in location), detail))
    first = faults[0]
    where = first["pointer"].lstrip("/") or "the request"
    more = f" (and {len(faults) - 1} more)" if len(faults) > 1 else ""
    return InvalidRequest(f"{where}: {first['detail']}{more}", errors=faults[:100])


def _escape(part: object) -> str:
    text = str(part).encode(errors="replace").decode()
    return text.replace("~", "~0").replace("/", "~1")


def from_http(error: HTTPException) -> Problem:
    """The framework's own refusals."""
    if error.status_code == 404:
        return NotFound("there is nothing at this address; /openapi.json lists what there is")
    if error.status_code == 405:
        return MethodNotAllowed("this address does not take that method; /openapi.json lists what it takes")
    if error.status_code == 413:
        return TooLarge(str(error.detail))
    return InvalidRequest(str(error.detail))


def problem_of(error: Problem | RequestValidationError | HTTPException) -> Problem:
    """What is said of a refusal, whoever raised it."""
    if isinstance(error, Problem):
        return error
    if isinstance(error, WhileRead):
        return error.problem
    return from_validation(error.errors()) if isinstance(error, RequestValidationError) else from_http(error)


def _allowed(request: Request) -> str:
    """The methods of every route at an address (RFC 9110, 10.2.1); the framework tells those of the first."""
    return ", ".join(
        method
        for method in _METHODS
        if any(route.matches({**request.scope, "method": method})[0] is Match.FULL for route in request.app.routes)
    )


def install(app: FastAPI) -> None:
    """Render every refusal of the app as a problem document; a bug is `Envelope`'s business."""

    def request_id(request: Request) -> str | None:
        found: str | None = request.scope.get("request_id")
        return found

    async def refused(request: Request, error: Exception) -> Response:
        assert isinstance(error, (Problem, RequestValidationError, HTTPException))
        allow = _allowed(request) if isinstance(error, HTTPException) and error.status_code == 405 else None
        return response(problem_of(error), request_id(request), allow)

    for kind in (Problem, RequestValidationError, HTTPException):
        app.add_exception_handler(kind, refused)
