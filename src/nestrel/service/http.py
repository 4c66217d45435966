"""What every route uses: who calls, JSON in and out, list headers."""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable, Coroutine, Sequence
from typing import Annotated, Any, TypeVar
from uuid import UUID

import orjson
from fastapi import Depends, HTTPException, Request
from fastapi.exceptions import RequestValidationError
from fastapi.routing import APIRoute
from pydantic import BaseModel, ValidationError
from starlette.responses import Response
from starlette.types import Receive, Scope, Send

from nestrel.core import limits
from nestrel.core.audit import request_ids
from nestrel.core.callers import Caller
from nestrel.core.objects import ProblemDocument
from nestrel.core.problems import Forbidden, StoreUnavailable, TooLarge, Trouble, Unauthenticated, invalid
from nestrel.core.rights import Action
from nestrel.core.text import check_key
from nestrel.service.access import actions_of
from nestrel.service.intake import Counted, intake_of
from nestrel.service.state import Service
from nestrel.service.tokens import Identity
from nestrel.store import rows

T = TypeVar("T")


async def again_if_restored(work: Callable[[], Awaitable[T]]) -> T:
    """Do something, and once more where it met a database that was restored or has failed over: nothing of it was
    done, and now that is known."""
    try:
        return await work()
    except StoreUnavailable as problem:
        if problem.reason is not Trouble.RESTORED:
            raise
    return await work()


_STRINGS = re.compile(rb'"(?:[^"\\]|\\.)*"', re.DOTALL)
_SMALL = 64 * 1024


def parsed(body: bytes) -> Any:
    """JSON by orjson, which refuses NaN, lone surrogates and bottomless nesting.

    Raises:
        orjson.JSONDecodeError: it is not JSON.
        TooLarge: a large one has more values than any request needs, each of which would take many times its bytes.
    """
    if len(body) > _SMALL and _marks(body) > limits.JSON_NODES and _marks(_STRINGS.sub(b"", body)) > limits.JSON_NODES:
        raise TooLarge(f"the JSON has more than {limits.JSON_NODES:,} values")
    return orjson.loads(body)


def _marks(body: bytes) -> int:
    return body.count(b"[") + body.count(b"{") + body.count(b",")


class JsonRequest(Request):
    """Reads JSON as `parsed` does."""

    async def json(self) -> Any:
        try:
            return parsed(await self.body())
        except TooLarge as problem:  # the framework takes any other error for JSON that is none
            raise HTTPException(413, problem.detail) from None


class JsonRoute(APIRoute):
    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handler = super().get_route_handler()

        async def handle(request: Request) -> Response:
            wanted = JsonRequest(request.scope, request.receive)
            return await again_if_restored(lambda: handler(wanted))

        return handle


class DirectRoute(APIRoute):
    """A busy route: FastAPI documents it, and its endpoint is called without FastAPI's resolving of parameters, which
    costs more than the work itself. The endpoint takes `request`, `service` and `caller`, and before them
    `conversation_id` where the path has one."""

    def __init__(self, *args: Any, **options: Any) -> None:
        super().__init__(*args, **options)
        self.app = self._answer

    async def _answer(self, scope: Scope, receive: Receive, send: Send) -> None:
        request = Request(scope, receive, send)
        service: Service = scope["app"].state.service
        caller = await get_caller(request, service)
        place: list[UUID] = []
        if "conversation_id" in scope["path_params"]:
            try:
                place = [UUID(scope["path_params"]["conversation_id"])]
            except ValueError:
                raise invalid("/conversation_id", "must be the id of a conversation, a UUID") from None
        answer = await again_if_restored(lambda: self.endpoint(*place, request, service, caller))
        await answer(scope, receive, send)


class Json(Response):
    """An answer whose JSON is written once, straight from rows."""

    media_type = "application/json"

    def __init__(self, content: Any, status_code: int = 200, headers: dict[str, str] | None = None) -> None:
        super().__init__(rows.dump(content), status_code, headers)


_CHUNK = 64 * 1024


class Parts(Response):
    """JSON that lies in several parts, which many answers may share: no copy is made of it, and no more is handed to
    the server at one time than it can send on."""

    def __init__(self, parts: Sequence[bytes], headers: dict[str, str] | None = None) -> None:
        super().__init__(None, 200, headers, "application/json")
        self._parts = parts
        self.headers["content-length"] = str(sum(map(len, parts)))

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        await send({"type": "http.response.start", "status": self.status_code, "headers": self.raw_headers})
        for part in self._parts:
            for start in range(0, len(part), _CHUNK):
                chunk = part if len(part) <= _CHUNK else part[start : start + _CHUNK]
                await send({"type": "http.response.body", "body": chunk, "more_body": True})
        await send({"type": "http.response.body", "body": b"", "more_body": False})


def documented(
    model: type[Any] | None, *, status: int = 200, **others: type[Any] | None
) -> dict[int | str, dict[str, Any]]:
    """The `responses` of a route for the OpenAPI document: its answer, and problems for all else."""
    answers: dict[int | str, dict[str, Any]] = {status: {"model": model} if model else {"description": "Done"}}
    answers |= {int(code.removeprefix("s")): {"model": other} for code, other in others.items()}
    return answers | _refusals()


def documented_text(description: str, *media_types: str) -> dict[int | str, dict[str, Any]]:
    """The same for a route that answers something other than one JSON value."""
    answer = {"description": description, "content": {media_type: {} for media_type in media_types}}
    return {200: answer, **_refusals()}


def _refusals() -> dict[int | str, dict[str, Any]]:
    problem = {"model": ProblemDocument, "content": {"application/problem+json": {}}}
    return {
        "4XX": {**problem, "description": "Refused"},
        "503": {**problem, "description": "The store is away"},
    }


async def get_service(request: Request) -> Service:  # asynchronous, for FastAPI sends plain functions to a thread
    service: Service = request.app.state.service
    return service


def bearer(header: str | None) -> str:
    """The token of an `Authorization` header (RFC 6750, 2.1). Raises `Unauthenticated` if there is none."""
    scheme, _, token = (header or "").partition(" ")
    if scheme.lower() != "bearer" or not token.strip():
        raise Unauthenticated("send Authorization: Bearer TOKEN")
    return token.strip()


async def get_caller(request: Request, service: Annotated[Service, Depends(get_service)]) -> Caller:
    """Who asks, through a door for what. A call that changes something is counted as a command, any
    other as a read.

    Raises:
        Forbidden: only a trusted backend does this.
        InvalidRequest: it has an idempotency key, which would be of no effect here.
    """
    scope = request.scope
    identity: Identity = scope["nestrel.identity"]
    actions = actions_of(scope["route"].endpoint)
    if Action.SERVE in actions and not identity.service:
        raise Forbidden("only a trusted backend (scope nestrel.service) does this")
    caller = Caller(
        identity.user_id,
        identity.service,
        actions,
        request_ids(scope["request_id"], scope["nestrel.own_request_id"]),
        identity.issued_at,
        identity.session,
    )
    intake = intake_of(scope["route"].endpoint)
    counted = intake.counted
    if request.method == "POST" and not intake.keyed and counted is not Counted.READ:
        _check_no_key(scope)
    if service.rates.limits_members and not identity.service:
        if request.method in ("GET", "HEAD") or counted is Counted.READ:
            await service.count_read(caller)
        elif counted is not Counted.ITSELF:
            await service.count_command(caller)
    return caller


def _check_no_key(scope: Scope) -> None:
    if any(name == b"idempotency-key" for name, _ in scope["headers"]):
        raise invalid("/Idempotency-Key", "this request does not take a key: send it without one, and look for what it "
                                          "made before you repeat it")  # fmt: skip


ServiceDep = Annotated[Service, Depends(get_service)]
CallerDep = Annotated[Caller, Depends(get_caller)]


def idempotency_key(request: Request) -> str | None:
    """The `Idempotency-Key` header, read as UTF-8 so that a key is the same through every door."""
    raw = next((value for name, value in request.headers.raw if name == b"idempotency-key"), None)
    if raw is None:
        return None
    try:
        return check_key(raw.decode("utf-8"))
    except UnicodeDecodeError:
        raise invalid("/Idempotency-Key", "must be UTF-8") from None
    except ValueError as error:
        raise invalid("/Idempotency-Key", str(error)) from None


def key_parameter(about: str) -> dict[str, Any]:
    """The `Idempotency-Key` header for the OpenAPI document."""
    schema = {"type": "string", "minLength": 1, "maxLength": limits.KEY_CHARS}
    return {"name": "Idempotency-Key", "in": "header", "required": False, "schema": schema, "description": about}


Q = TypeVar("Q", bound=BaseModel)


def query_of(request: Request, model: type[Q]) -> Q:
    """The query string as a model. FastAPI's own way costs several times the rest of a page of history.

    Raises:
        RequestValidationError: as FastAPI would, which becomes `InvalidRequest`.
    """
    try:
        return model.model_validate(dict(request.query_params))
    except ValidationError as error:
        found = error.errors(include_url=False)
        raise RequestValidationError([{**one, "loc": ("query", *one["loc"])} for one in found]) from None


async def body_of(request: Request, model: type[Q]) -> Q:
    """The body as a model, for a `DirectRoute`. Raises as `query_of` does."""
    try:
        return model.model_validate(parsed(await request.body()))
    except orjson.JSONDecodeError as error:
        fault = {"type": "json_invalid", "loc": ("body",), "msg": "not JSON", "ctx": {"error": str(error)}}
        raise RequestValidationError([fault]) from None
    except ValidationError as error:
        found = error.errors(include_url=False)
        raise RequestValidationError([{**one, "loc": ("body", *one["loc"])} for one in found]) from None


def request_body(model: type[BaseModel]) -> dict[str, Any]:
    """The body of `body_of` for the OpenAPI document."""
    return {"requestBody": {"required": True, "content": {"application/json": {"schema": model.model_json_schema()}}}}


def query_parameters(model: type[BaseModel]) -> dict[str, Any]:
    """The parameters of `query_of` for the OpenAPI document."""
    schema = model.model_json_schema()
    required = schema.get("required", [])
    return {
        "parameters": [
            {
                "name": name,
                "in": "query",
                "required": name in required,
                "schema": {key: value for key, value in property_.items() if key != "description"},
                "description": property_.get("description", ""),
            }
            for name, property_ in schema["properties"].items()
        ]
    }


_RELATIONS = {"older": "prev", "newer": "next", "next": "next"}
"""Cursors of a list as registered link relations."""


def link_header(request: Request, cursors: dict[str, str | None], limit: int) -> dict[str, str]:
    """The cursors of a list as RFC 8288 links."""
    links = [
        f'<{request.scope["path"]}?cursor={cursor}&limit={limit}>; rel="{_RELATIONS[relation]}"'
        for relation, cursor in cursors.items()
        if cursor is not None
    ]
    return {"Link": ", ".join(links)} if links else {}
