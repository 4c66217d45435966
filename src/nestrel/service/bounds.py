"""The server's protocols, with limits on what a connection may take before anyone is known: headers, time, and
number. No other module knows how uvicorn's protocols are made inside: they are private, so a version of uvicorn is
taken after its protocols have been read against this module (tests/test_bounds.py)."""

from __future__ import annotations

import asyncio
import time
from collections import Counter, deque
from collections.abc import Sequence
from secrets import token_hex
from typing import Any, ClassVar

import structlog
from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol
from uvicorn.protocols.utils import ClientDisconnected
from uvicorn.protocols.websockets.websockets_sansio_impl import WebSocketsSansIOProtocol
from websockets.protocol import State

from nestrel.core import limits
from nestrel.core.problems import HeadersTooLarge, Problem, RequestTimeout, StoreUnavailable, Trouble
from nestrel.service import metrics
from nestrel.service.hosts import Proxies
from nestrel.service.origins import Headers
from nestrel.store import rows

log = structlog.get_logger()

_GONE_SECONDS = 10.0
"""How long the rest of a body may come that nobody reads any more."""
_TURN_SECONDS = 0.001
"""How long upgrades may take in one turn of the loop."""
_PARTING_SECONDS = 2.0
"""How long a refused connection is still heard, so that its other side gets to read why (RFC 9112, 9.6)."""


class AddressConnections:
    """The open connections by address. One address has at most `most`, unless it is a proxy of one's own."""

    def __init__(self, most: int, proxies: Proxies) -> None:
        self._most = most
        self._proxies = proxies
        self._of: dict[asyncio.BaseTransport, str] = {}
        self._by: Counter[str] = Counter()

    def opened(self, transport: asyncio.BaseTransport, address: str) -> bool:
        """Count a connection; False if it is one too many."""
        if self._by[address] >= self._most and not self._proxies.trusts(address):
            return False
        self._of[transport] = address
        self._by[address] += 1
        return True

    def closed(self, transport: asyncio.BaseTransport) -> None:
        address = self._of.pop(transport, None)
        if address is not None:
            self._by[address] -= 1
            if not self._by[address]:
                del self._by[address]


class Upgrades:
    """Upgrades to WebSocket, some milliseconds of them in each turn of the loop: thousands that come at one moment
    would keep everybody else waiting until the last of them is through. Each is `hold`, and `upgrade` when its turn
    comes; those that wait are no more than there are connections."""

    def __init__(self) -> None:
        self._waiting: deque[BoundedHttp] = deque()
        self._left = _TURN_SECONDS
        self._scheduled = False

    def take(self, one: BoundedHttp) -> None:
        if self._waiting or self._left <= 0:
            one.hold()
            self._waiting.append(one)
        else:
            self._carry_out(one)
        self._schedule(one.loop)

    def _schedule(self, loop: asyncio.AbstractEventLoop) -> None:
        if not self._scheduled:
            self._scheduled = True
            loop.call_soon(self._next, loop)

    def _next(self, loop: asyncio.AbstractEventLoop) -> None:
        self._scheduled, self._left = False, _TURN_SECONDS
        while self._waiting and self._left > 0:
            self._carry_out(self._waiting.popleft())
        if self._waiting:
            self._schedule(loop)

    def _carry_out(self, one: BoundedHttp) -> None:
        began = time.perf_counter()
        try:
            one.upgrade()
        except Exception as error:  # nobody else is to wait for ever for that
            log.error("upgrade.failed", exc_info=error)
            one.transport.abort()
        self._left -= time.perf_counter() - began


class BoundedHttp(HttpToolsProtocol):
    """HTTP/1.1 whose headers are limited in size and time, whose bodies keep coming, and whose answers are read."""

    addresses: ClassVar[AddressConnections]
    upgrades: ClassVar[Upgrades]

    _phase = "idle"
    _since = 0.0
    _began = 0.0
    _head_bytes = 0
    _refusal: Problem | None = None

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]  # as its base has it
        super().connection_made(transport)
        self._phase, self._since = "head", self.loop.time()
        if not self.addresses.opened(transport, self.client[0] if self.client else ""):
            busy = StoreUnavailable("too many connections from this address", retry_after=5, reason=Trouble.BUSY)
            self._end_with(busy)
            self.transport.close()  # at once, for what is one too many is not to be kept

    def connection_lost(self, exc: Exception | None) -> None:
        super().connection_lost(exc)
        self.addresses.closed(self.transport)
        _part(self)

    def handle_websocket_upgrade(self) -> None:
        self.upgrades.take(self)

    def hold(self) -> None:
        """The turn has still to come."""
        self._phase = "upgrade"
        self.transport.pause_reading()

    def upgrade(self) -> None:
        """The turn has come."""
        if self.transport.is_closing():
            return
        super().handle_websocket_upgrade()
        if self._phase == "upgrade" and not self.transport.is_closing():
            self.transport.resume_reading()
        _part(self)
        self.parser = None  # type: ignore[assignment]  # as the base does when the line ends; another has it now

    def data_received(self, data: bytes) -> None:
        if self.transport.is_closing() or self._phase == "parting":
            return
        if self._phase in ("idle", "head"):
            if self._phase == "idle":
                self._begin_head()
            self._head_bytes += len(data)
        super().data_received(data)
        if self._phase == "head" and self._head_bytes > limits.HEADER_BYTES:
            self._end_with(_too_large())

    def _begin_head(self) -> None:
        self._phase, self._since, self._head_bytes = "head", self.loop.time(), 0

    def on_message_begin(self) -> None:
        if self._phase != "head":  # the next one of a row, in the same data
            self._begin_head()
        super().on_message_begin()

    def on_headers_complete(self) -> None:
        size = len(self.url) + sum(len(name) + len(value) for name, value in self.headers)
        if size > limits.HEADER_BYTES or len(self.headers) > limits.HEADERS:
            self._refusal = _too_large()
            raise ValueError("headers too large")
        self._phase = "body"
        self._since = self._began = self.loop.time()
        self._body_seconds = limits.BODY_SECONDS
        self.scope["nestrel.connection"] = self  # type: ignore[typeddict-unknown-key]  # to cut it by, not by address
        super().on_headers_complete()

    def on_body(self, body: bytes) -> None:
        self._since = self.loop.time()
        super().on_body(body)

    def on_message_complete(self) -> None:
        self._phase, self._head_bytes = "idle", 0
        super().on_message_complete()

    def send_400_response(self, msg: str) -> None:
        """For whatever the parser could not take."""
        if self._refusal is not None:
            self._end_with(self._refusal)
        elif self._phase != "parting":
            super().send_400_response(msg)

    def _end_with(self, problem: Problem) -> None:
        if self.transport.is_closing():
            return
        request_id = str((self.scope or {}).get("request_id") or token_hex(8))
        body = rows.dump(problem.document(request_id))
        crossing: Headers = (self.scope or {}).get("nestrel.crossing", ())  # type: ignore[assignment]  # as above
        own = [(b"x-request-id", request_id.encode()), *self.server_state.default_headers, *crossing]
        if problem.retry_after:
            own.append((b"retry-after", b"%d" % problem.retry_after))
        metrics.REFUSALS.labels(problem.name).inc()
        self.transport.write(
            b"HTTP/1.1 %d %s\r\ncontent-type: application/problem+json\r\ncontent-length: %d\r\n%s"
            b"connection: close\r\n\r\n"
            % (problem.status, problem.name.encode(), len(body), b"".join(b"%s: %s\r\n" % one for one in own))
            + body
        )
        self.transport.write_eof()
        self._phase, self._since = "parting", self.loop.time()

    def overdue(self, now: float, stall_seconds: float) -> None:
        """End the connection if its other side has let it wait for too long."""
        if self.flow.write_paused:
            self._unread = self._unread or now
            if now - self._unread > stall_seconds:
                metrics.STALLED.inc()
                self.transport.abort()
            return
        self._unread = 0.0
        waited = now - self._since
        if self._phase == "parting" and waited > _PARTING_SECONDS:
            self.transport.abort()
        elif self._phase == "head" and waited > limits.HEAD_SECONDS:
            self._end_with(RequestTimeout(f"the headers did not come within {limits.HEAD_SECONDS} s"))
        elif self._phase == "body" and self.cycle is not None:
            if self.cycle.response_complete:
                if waited > _GONE_SECONDS or now - self._began > self._body_seconds:
                    self.transport.abort()
            elif not self.flow.read_paused and (
                waited > limits.BODY_PAUSE_SECONDS or now - self._began > self._body_seconds
            ):
                self._cut_body(RequestTimeout("the body did not come in time"))

    _unread = 0.0
    _body_seconds: float = limits.BODY_SECONDS

    def wait_for_body(self, seconds: float) -> None:
        """Let the body of the request under way take so long."""
        self._body_seconds = seconds

    def give_up_body(self) -> None:
        """The service stops: what has not come whole was not begun, and is not waited for."""
        if self._phase == "body" and self.cycle is not None and not self.cycle.response_complete:
            self._cut_body(StoreUnavailable("the service is stopping", retry_after=1, reason=Trouble.STOPPING))
        elif self._phase in ("head", "parting"):
            self.transport.close()

    def end_request(self, problem: Problem) -> None:
        """Answer the request that is still being sent with a problem, or cut the answer to it: whoever it is of may
        not be here any more."""
        if self.cycle is not None and not self.cycle.response_complete:
            self._cut_body(problem)

    def _cut_body(self, problem: Problem) -> None:
        if not self.cycle.response_started:
            self.cycle.response_started = self.cycle.response_complete = True
            self._end_with(problem)
        else:
            self.transport.abort()
        self.cycle.disconnected = True
        self.cycle.message_event.set()


def _too_large() -> HeadersTooLarge:
    return HeadersTooLarge(
        f"the headers of a request have at most {limits.HEADER_BYTES:,} bytes and are at most {limits.HEADERS}"
    )


class BoundedSocket(WebSocketsSansIOProtocol):
    """The WebSocket that an upgrade leads to."""

    addresses: ClassVar[AddressConnections]

    def handle_connect(self, event: Any) -> None:
        super().handle_connect(event)
        if hasattr(self, "scope"):
            self.scope["nestrel.connection"] = self  # type: ignore[typeddict-unknown-key]  # as above

    def accepted(self) -> None:
        """The handshake is over; what it said is in the scope. The base would keep its own copies for as long as the
        connection lasts."""
        del self.request, self.response

    def denied(self) -> None:
        """A refusal has been sent instead of a handshake: the base leaves that out, and would take it for a fault."""
        self.handshake_complete = True

    async def send_texts(self, texts: Sequence[bytes]) -> None:
        """Send text frames (RFC 6455, 5.2) with one write: unmasked, whole, with no extension, as none is offered.
        Raises `ClientDisconnected` when the line has ended."""
        await self.writable.wait()
        if self.disconnected or self.close_sent or self.conn.state is not State.OPEN:
            raise ClientDisconnected
        self.transport.write(b"".join([part for text in texts for part in (_head(len(text)), text)]))

    def connection_lost(self, exc: Exception | None) -> None:
        super().connection_lost(exc)
        self.addresses.closed(self.transport)
        self.conn.parser.close()  # a generator that holds what holds it
        _part(self)


def _part(connection: Any) -> None:
    """Let go of what leads back to a connection that is over, so that its memory is free at once: the collector comes
    seldom, and would find thousands of them."""
    scope = getattr(connection, "scope", None)
    if scope is not None:
        scope.pop("nestrel.connection", None)


def _head(size: int) -> bytes:
    """The head of a whole text frame."""
    if size < 126:
        return bytes((0x81, size))
    if size < 65_536:
        return b"\x81\x7e" + size.to_bytes(2)
    return b"\x81\x7f" + size.to_bytes(8)


def protocols(addresses: AddressConnections) -> tuple[type[BoundedHttp], type[BoundedSocket]]:
    """The protocols of one server."""
    shared = {"addresses": addresses, "upgrades": Upgrades()}
    return type("Http", (BoundedHttp,), dict(shared)), type("Socket", (BoundedSocket,), dict(shared))


async def watch(connections: set[Any], stall_seconds: float) -> None:
    """Look every second for connections whose other side does nothing, until cancelled."""
    loop = asyncio.get_running_loop()
    while True:
        await asyncio.sleep(1.0)
        _look_at(connections, loop.time(), stall_seconds)


def _look_at(connections: set[Any], now: float, stall_seconds: float) -> None:
    for connection in tuple(connections):
        if isinstance(connection, BoundedHttp):
            try:
                connection.overdue(now, stall_seconds)
            except Exception as error:  # one of them is no reason to look after none
                log.error("connection.not_watched", exc_info=error)
