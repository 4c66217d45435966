"""Around every HTTP request: who asks, its id, its limits, its time and its line in the log."""

from __future__ import annotations

import re
import time
from secrets import token_hex
from urllib.parse import unquote_to_bytes

import structlog
from fastapi.exceptions import RequestValidationError
from starlette.exceptions import HTTPException
from starlette.requests import ClientDisconnect
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from nestrel.core import limits
from nestrel.core.problems import (
    InternalError,
    InvalidRequest,
    Misdirected,
    Problem,
    SlowDown,
    StoreUnavailable,
    TooLarge,
    Trouble,
    Unauthenticated,
    UpgradeRequired,
    invalid,
)
from nestrel.core.rate import headers
from nestrel.service import cookies, logs, metrics, problems
from nestrel.service.http import bearer
from nestrel.service.intake import Intake, Intakes, intake_of
from nestrel.service.rates import address_of
from nestrel.service.state import Service
from nestrel.service.underway import Underway
from nestrel.store.tracing import tracing

log = structlog.get_logger()

_REQUEST_ID = re.compile(r"[A-Za-z0-9._-]{1,64}")
_SLOW_SECONDS = 1.0
_HEALTH = "/healthz"
_LIVE = "/v1/live"
_OPEN = (_HEALTH, "/readyz", "/metrics")
"""What answers while the service drains."""
_PRIVATE = [(b"cache-control", b"no-store"), (b"x-content-type-options", b"nosniff")]


_LINKS = "/v1/links/"
"""What lies below stands for itself and needs no token."""
_SECRET = (_LINKS, "/v1/invitations/")
"""Who reads what lies below has what it leads to, so no log has it."""


class Envelope:
    """Gives each request an id (the caller's own if it is a plain one), knows its caller before it reads its body,
    bounds the body, and measures it."""

    def __init__(self, app: ASGIApp, service: Service, intakes: Intakes) -> None:
        self._app = app
        self._intakes = intakes
        self._service = service
        rates = service.rates
        self._limited = any(one is not None for one in (rates.commands, rates.reads, rates.address))

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        if tracing.tracer is None:
            await self._serve(scope, receive, send)
            return
        headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]}
        method = scope["method"]
        with tracing.door(method, headers) as span:
            await self._serve(scope, receive, send)
            route = getattr(scope.get("route"), "path", "none")  # which is looked for within
            span.update_name(f"{method} {route}")
            span.set_attributes(
                {
                    "http.request.method": method,
                    "http.route": route,
                    "http.response.status_code": scope["nestrel.status"],
                    "nestrel.request_id": scope["request_id"],
                }
            )

    async def _serve(self, scope: Scope, receive: Receive, send: Send) -> None:
        declared, given, host, cookie, origin, authorization = "", "", "", "", None, None
        for name, value in scope["headers"]:
            if name == b"content-length":
                declared = value.decode("latin-1")
            elif name == b"x-request-id":
                given = value.decode("latin-1")
            elif name == b"host":
                host = value.decode("latin-1")
            elif name == b"authorization":
                authorization = value.decode("latin-1")
            elif name == b"cookie":
                cookie += ("; " if cookie else "") + value.decode("latin-1")
            elif name == b"origin":
                origin = value.decode("latin-1")
        session = None
        if cookie:  # which is read here alone: the framework's parser can be made to take seconds
            session = cookies.read(cookie, host)
            scope["headers"] = [header for header in scope["headers"] if header[0] != b"cookie"]
        scope["nestrel.session"] = session
        own_id = token_hex(8)
        request_id = given if _REQUEST_ID.fullmatch(given) else own_id
        scope["request_id"], scope["nestrel.own_request_id"] = request_id, own_id
        logs.REQUEST_ID.set(request_id)  # each request is a task of its own
        self._service.proxies.look_behind(scope)
        path = scope["path"]
        api = path.startswith("/v1/")
        crossing = self._service.hosts.origins.on_answers(origin) if api or path == _HEALTH else ()
        scope["nestrel.crossing"] = crossing
        status, started = 500, time.perf_counter()

        started_answer = False
        underway: Underway | None = None
        limited = self._limited and api

        async def send_with_id(message: Message) -> None:
            nonlocal status, started_answer
            if message["type"] == "http.response.start":
                status, started_answer = message["status"], True
                if underway is not None:
                    underway.answering = True
                message["headers"].append((b"x-request-id", request_id.encode()))
                message["headers"].extend(crossing)
                if limited:
                    message["headers"].extend(self._left(scope))
                if api:
                    message["headers"].extend(_PRIVATE if _said_nothing(message) else _PRIVATE[1:])
            await send(message)

        body = _Body(self._service, receive, self._intake(scope))
        try:
            self._check(scope, host)
            if scope["method"] == "OPTIONS" and origin is not None and _asks_first(scope, path, api=api):
                await self._preflight(origin, send_with_id)
                return
            if path == _LIVE:
                raise UpgradeRequired(
                    "a WebSocket is opened here (RFC 6455, 4.1), and this request does not ask for one: a proxy in "
                    "front has to pass on Upgrade and Connection"
                )
            if api and not path.startswith(_LINKS):
                if authorization is not None:
                    session = None  # a bearer wins
                try:
                    scope["nestrel.identity"] = await (
                        self._service.sign_in(bearer(authorization))
                        if session is None
                        else self._service.sign_in_by_cookie(session)
                    )
                except Unauthenticated:
                    await self._count_address(scope)
                    raise
                underway = Underway(scope["nestrel.identity"], scope.get("nestrel.connection"))
                scope["nestrel.underway"] = underway
                body.of(underway)
                self._service.underway.add(underway)
                if session is not None:
                    cookies.check_origin(self._service.hosts, scope["method"], origin, host, scope["scheme"])
            elif limited or (self._service.rates.address and path not in _OPEN):
                await self._count_address(scope)
            body.declared(declared)
            await self._app(scope, body.receive, send_with_id)
        except ClientDisconnect:
            status = 499  # nobody is left to answer
        except (Problem, RequestValidationError, HTTPException) as error:
            if not started_answer:
                refusal = problems.response(problems.problem_of(error), request_id)
                await refusal(scope, receive, send_with_id)
        except Exception:
            log.exception("request.failed", request_id=request_id, path="secret" if path.startswith(_SECRET) else path)
            if not started_answer:
                bug = InternalError("this is a bug of the service; its log has the request id")
                await problems.response(bug, request_id)(scope, receive, send_with_id)
        finally:
            body.done()
            if underway is not None:
                self._service.underway.discard(underway)
                underway.line = None  # which leads back to it by the scope
            scope["nestrel.status"] = status
            _record(scope, status, time.perf_counter() - started)

    async def _preflight(self, origin: str, send: Send) -> None:
        """What a browser asks before a page's own request, which it cannot give a token to."""
        headers = list(self._service.hosts.origins.on_preflight(origin))
        await send({"type": "http.response.start", "status": 204, "headers": headers})
        await send({"type": "http.response.body"})

    def _intake(self, scope: Scope) -> Intake:
        """What may come; whoever is told it at once knows for how long to wait for it."""
        route = scope.get("route")
        intake = intake_of(route.endpoint) if route else self._intakes.at(scope["method"], scope["path"])
        if intake.streamed and "nestrel.connection" in scope:
            scope["nestrel.connection"].wait_for_body(limits.UPLOAD_SECONDS)
        return intake

    async def _count_address(self, scope: Scope) -> None:
        rates = self._service.rates
        if rates.address is not None:
            scope["nestrel.address"] = address_of(scope)
            await rates.count(rates.address, scope["nestrel.address"])

    def _left(self, scope: Scope) -> list[tuple[bytes, bytes]]:
        """The headers on what is left of the limits that a request was counted against."""
        rates, identity, address = self._service.rates, scope.get("nestrel.identity"), scope.get("nestrel.address")
        if address is not None and rates.address is not None:
            return headers([rates.left(rates.address, address)])
        if identity is None or identity.service:
            return []
        return headers([rates.left(one, identity.user_id) for one in (rates.commands, rates.reads) if one is not None])

    def _check(self, scope: Scope, host: str) -> None:
        service = self._service
        if service.draining and scope["path"] not in _OPEN:
            raise StoreUnavailable("the service is stopping", retry_after=1, reason=Trouble.STOPPING)
        if not service.hosts.answers_to(host):
            raise Misdirected("this service does not answer to that host; NESTREL_HOSTS names those that it does")
        try:
            scope["query_string"].decode("ascii")
        except UnicodeDecodeError:
            raise InvalidRequest("the query string has bytes that are not percent-encoded") from None
        if b"%" in scope["query_string"] or b"%" in scope.get("raw_path", b""):
            _check_encoding(scope)


def _asks_first(scope: Scope, path: str, *, api: bool) -> bool:
    """Whether a request with an `Origin` is a preflight (Fetch, 4.8)."""
    return (api or path == _HEALTH) and any(name == b"access-control-request-method" for name, _ in scope["headers"])


def _check_encoding(scope: Scope) -> None:
    """What is percent-encoded is UTF-8 (RFC 3986, 2.5). The framework would take the rest for other characters, and
    look for somebody else."""
    for pair in scope["query_string"].split(b"&"):
        name, _, value = (_decoded(part) for part in pair.replace(b"+", b" ").partition(b"="))
        if name is None:
            raise InvalidRequest("the query string has a name that is not UTF-8")
        if value is None:
            raise invalid(f"/{name[:100]}", "must be UTF-8, percent-encoded (RFC 3986, 2.5)")
    if _decoded(scope.get("raw_path", b"")) is None:
        raise InvalidRequest("the path must be UTF-8, percent-encoded (RFC 3986, 2.5)")


def _decoded(part: bytes) -> str | None:
    try:
        return unquote_to_bytes(part).decode()
    except UnicodeDecodeError:
        return None


class _Body:
    """The body of one request, counted as it comes: by itself, and a large one that is `held` whole with all others
    that are under way."""

    def __init__(self, service: Service, receive: Receive, intake: Intake) -> None:
        self._held = not intake.streamed
        self._service = service
        self._receive = receive
        self._most = service.settings.attachment_bytes if intake.most is None else intake.most
        self._size = 0
        self._counted = 0
        self._underway: Underway | None = None

    def of(self, underway: Underway) -> None:
        """Whose it is: they are asked for again when all of it is there."""
        self._underway = underway

    def declared(self, length: str) -> None:
        """Refuse at once what says that it is too large."""
        if length.isdigit() and len(length) < 20 and int(length) > self._most:
            raise TooLarge(f"a request of this kind has at most {self._most:,} bytes")
        if length.isdigit() and len(length) < 20:
            self._count(int(length))

    async def receive(self) -> Message:
        if self._underway is not None:
            self._underway.coming = True
        message = await self._receive()
        try:
            self._take(message)
        except Problem as problem:
            raise problems.WhileRead(problem) from None
        return message

    def _take(self, message: Message) -> None:
        self._size += len(message.get("body", b""))
        if self._size > self._most:
            raise TooLarge(f"a request of this kind has at most {self._most:,} bytes")
        self._count(self._size)
        if self._underway is not None and message["type"] == "http.request" and not message.get("more_body"):
            self._underway.coming = False
            self._service.bars.check(self._underway.identity)

    def _count(self, size: int) -> None:
        if not self._held or size <= limits.LIST_REQUEST_BYTES or size <= self._counted:
            return
        service = self._service
        if service.bodies + size - self._counted > service.budget.bodies:
            raise SlowDown("as many large requests are under way as this process takes; try again", retry_after=1)
        service.bodies += size - self._counted
        self._counted = size

    def done(self) -> None:
        self._service.bodies -= self._counted


def _said_nothing(start: Message) -> bool:
    """Whether an answer leaves open who may keep it."""
    return not any(name == b"cache-control" for name, _ in start["headers"])


def _record(scope: Scope, status: int, seconds: float) -> None:
    route = scope.get("route")
    path = getattr(route, "path", "none")
    metrics.REQUEST_SECONDS.labels(scope["method"], path, str(status)).observe(seconds)
    quiet = status < 400 and seconds < _SLOW_SECONDS
    (log.debug if quiet else log.info)(
        "request",
        method=scope["method"],
        path=path if scope["path"].startswith(_SECRET) else scope["path"],
        client=scope["client"][0] if scope["client"] else None,
        status=status,
        ms=round(seconds * 1000, 1),
        request_id=scope["request_id"],
        own_request_id=scope["nestrel.own_request_id"],
    )
