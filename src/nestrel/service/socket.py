"""One WebSocket: reads frames, answers them, and sends change sets of what it follows.

Two tasks: the reader takes frames in order, the sender writes answers and change sets; the end of either is the end
of the connection. Neither queue can grow: answers are bounded by the commands that may be in flight, and change sets
lie in the hub until the socket is writable.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections import deque
from collections.abc import Callable
from datetime import UTC, datetime
from secrets import token_hex
from typing import Any

import orjson
import structlog
from starlette.types import Receive, Send
from starlette.websockets import WebSocket, WebSocketDisconnect

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.problems import (
    Forbidden,
    InternalError,
    InvalidRequest,
    OverQuota,
    Problem,
    StoreUnavailable,
    Unauthenticated,
    fault,
)
from nestrel.live.deliveries import Delivery
from nestrel.live.following import Following
from nestrel.service import frames, logs, metrics
from nestrel.service.addressing import frame_of
from nestrel.service.following import following_of
from nestrel.service.frame_models import Frame, SignInFrame
from nestrel.service.frames import SignedIn
from nestrel.service.outlet import Outlet
from nestrel.service.state import Service
from nestrel.service.tokens import Identity
from nestrel.service.upgrade import Arrival
from nestrel.store import rows

log = structlog.get_logger()

GOING_AWAY, FAILED, TRY_LATER, SIGN_IN_AGAIN, TOO_MANY, ABUSE = 1001, 1011, 1013, 4401, 4403, 4429


class Session:
    """A signed-in connection."""

    def __init__(
        self, service: Service, socket: WebSocket, receive: Receive, send: Send, arrival: Arrival | None = None
    ) -> None:  # fmt: skip
        self.service = service
        self._arrival = arrival
        self.in_flight: set[object] = set()
        """Commands that have no answer yet."""
        self._socket = socket
        self._raw_receive = receive
        self._identity: Identity | None = None
        self._following: Following | None = None
        self._out: deque[bytes] = deque()
        self._outlet = Outlet(service.outgoing, self.connection, send)
        self._something = asyncio.Event()
        self._room = asyncio.Event()
        self._closing: tuple[int, str] | None = None
        self._expiry: asyncio.TimerHandle | None = None
        self._refusals: deque[float] | None = None
        self._draining = False
        self._seat: str | None = None
        self._used = False
        self.kind = "socket"
        self.since = datetime.now(UTC)
        self.id = token_hex(8)
        """What it is called where connections are listed, and as the request of its commands in the audit."""

    @property
    def stir(self) -> Callable[[], None]:
        """To be called when there may be something to send. It does not lead back to the session: what holds it is not
        to hold that."""
        return self._something.set

    @property
    def following(self) -> Following:
        assert self._following is not None
        return self._following

    @property
    def caller(self) -> Caller:
        return self.following.caller

    @property
    def identity(self) -> Identity | None:
        """Whose the connection is, once it is signed in."""
        return self._identity

    @property
    def sending_since(self) -> float | None:
        """When what is being sent was begun."""
        return self._outlet.since

    @property
    def client(self) -> object:
        """The address of the other side."""
        return self._socket.scope.get("client")

    @property
    def connection(self) -> Any:
        """The server's own side of the connection, to cut it."""
        return self._socket.scope.get("nestrel.connection")

    # The connection's life

    async def run(self) -> None:
        """Serve the connection until either side ends it."""
        logs.REQUEST_ID.set(self.id)  # each socket is a task of its own
        await self._socket.accept()
        if self.connection is not None:
            self.connection.accepted()
        metrics.CONNECTIONS.inc()
        self.service.sessions.add(self)
        sender = asyncio.create_task(self._send())
        reader = asyncio.create_task(self._serve())
        tasks = {sender, reader}
        try:
            await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
            await self._wind_up(reader, sender)
        finally:
            self._forget()
            for task in tasks:
                task.cancel()
            await asyncio.wait(tasks)

    async def _wind_up(self, reader: asyncio.Task[None], sender: asyncio.Task[None]) -> None:
        """One of the two has ended. What is to be said before the close goes out; who has gone is told nothing."""
        first = reader if reader.done() else sender
        error = first.exception()
        if isinstance(error, WebSocketDisconnect):
            return
        if error is not None:
            log.error("connection.failed", client=self.client, exc_info=error)
            self.close(FAILED, "this is a bug of the service; its log says more")
        if sender.done() and not sender.cancelled() and sender.exception() is None:
            return  # it has closed the connection
        if sender.done():
            with contextlib.suppress(WebSocketDisconnect, OSError):
                await self._socket.close(*(self._closing or (FAILED, "")))
            return
        # The reader is over, and the sender has still to write what waits and the close; it is watched for a stall.
        gone = asyncio.create_task(self._until_gone())
        try:
            await asyncio.wait({sender, gone}, return_when=asyncio.FIRST_COMPLETED)
        finally:
            gone.cancel()
            await asyncio.wait({gone})

    async def _until_gone(self) -> None:
        """Nothing that still comes is of interest, but its end is."""
        with contextlib.suppress(WebSocketDisconnect):
            while True:
                await self._receive()

    def _forget(self) -> None:
        self.service.left(self)
        metrics.CONNECTIONS.dec()
        if self._seat is not None:
            self.service.seats.leave(self)
        if self._expiry is not None:
            self._expiry.cancel()
        if self._following is not None:
            self._following.end_all()
            self.service.lookings.look(self.caller.user_id, self.id, None)

    async def _serve(self) -> None:
        if await self._first_sign_in():
            await self._read()

    def close(self, code: int, reason: str) -> None:
        """End the connection once what is already in the queue has been sent."""
        if self._closing is None:
            self._closing = (code, reason)
        self._something.set()
        self._room.set()

    def drain(self) -> None:
        """Take no more commands, and end the connection when those under way have their answers."""
        self._draining = True
        self._something.set()
        self._room.set()

    # Signing in

    async def _first_sign_in(self) -> bool:
        try:
            arrival, self._arrival = self._arrival, None
            if arrival is not None and arrival.problem is not None:
                raise arrival.problem
            if arrival is not None and arrival.identity is not None:
                self._signed_in(arrival.identity, None)
                return True
            async with asyncio.timeout(limits.SIGN_IN_SECONDS):
                data = await self._receive()
            raw = orjson.loads(data)
            if not isinstance(raw, dict) or raw.get("type") != "sign_in":
                raise Unauthenticated("the first frame must be sign_in")
            await frames.answer(self, raw)
            if self._identity is not None:
                return True
            self.close(SIGN_IN_AGAIN, "the first frame must sign in")
        except TimeoutError:
            self.close(SIGN_IN_AGAIN, "no sign_in within 10 s")
        except Problem as problem:
            self._turn_away(None, problem)
        except orjson.JSONDecodeError:
            self.refuse(None, InvalidRequest("the frame is not JSON", errors=[fault("", "is not JSON")]))
            self.close(SIGN_IN_AGAIN, "the first frame must be sign_in")
        return False

    async def sign_in(self, frame: SignInFrame) -> SignedIn:
        """Sign in, or go on with a newer token of the same user; a token that is not accepted ends the connection."""
        try:
            identity = await self.service.sign_in(frame.token)
            if self._seat is None:
                await self.service.check_seats(identity)
            if self._identity is not None and identity.user_id != self._identity.user_id and not self._replaceable:
                raise Unauthenticated("this connection belongs to another user; open a new one")
            came = SignedIn.FIRST if self._identity is None else SignedIn.AGAIN
            self._signed_in(identity, frame.ref)
            return came
        except (Unauthenticated, Forbidden, OverQuota, StoreUnavailable) as problem:
            if isinstance(problem, StoreUnavailable) and self._seat is not None:
                raise  # what it has signed in with holds until it runs out
            self._turn_away(frame.ref, problem)
            return SignedIn.NO

    def _turn_away(self, ref: str | int | None, problem: Problem) -> None:
        """Refuse a sign-in, and end the connection."""
        self.refuse(ref, problem)
        if isinstance(problem, StoreUnavailable):
            code = TRY_LATER
        else:
            code = TOO_MANY if isinstance(problem, Forbidden | OverQuota) else SIGN_IN_AGAIN
        self.close(code, problem.detail[:100])

    @property
    def _replaceable(self) -> bool:
        """Whether the browser's session may give way to a token that a page sends first: a page of several people has
        one of its own for each."""
        return self._identity is not None and self._identity.session is not None and not self._used

    def _signed_in(self, identity: Identity, ref: str | int | None) -> None:
        """Raises `OverQuota`, `StoreUnavailable` when there is no room for one more connection."""
        if self._seat is not None and self._seat != identity.user_id:
            self.service.seats.leave(self)
            self._seat = None
        if self._seat is None:
            self.service.seats.take(identity.user_id, self, service=identity.service)
            self._seat = identity.user_id
        less = self._identity is not None and self._identity.service and not identity.service
        self._identity = identity
        caller = Caller(identity.user_id, identity.service, None, self.id)
        if self._following is None:
            self._following = following_of(self.service, caller, self.stir)
        else:
            self._following.caller = caller
            if less:
                self._following.check_again()
        if self._expiry is not None:
            self._expiry.cancel()
        self._start_expiry(identity)
        answer: dict[str, Any] = {
            "type": "signed_in",
            "user_id": identity.user_id,
            "expires_at": rows.wire_time_of(identity.expires_at),
            "limits": {
                "frame_bytes": limits.FRAME_BYTES,
                "body_characters": limits.BODY_CHARS,
                "commands_in_flight": limits.COMMANDS_IN_FLIGHT,
                "follows": limits.FOLLOWS_PER_SOCKET,
            },
        }
        if ref is not None:
            answer["ref"] = ref
        self._enqueue(answer)

    def _expire(self) -> None:
        assert self._identity is not None
        if self._identity.expires_at > time.time() + 1:
            self._start_expiry(self._identity)
        else:
            self.close(SIGN_IN_AGAIN, "the token has run out")

    def _start_expiry(self, identity: Identity) -> None:
        # An event loop's timer has a limit of its own: a token for longer than a day is looked at again then.
        left = min(max(0.0, identity.expires_at - time.time()), 86_400.0)
        self._expiry = asyncio.get_running_loop().call_later(left, self._expire)

    # Reading

    async def _receive(self) -> str | bytes:
        # Straight from the server: the framework's own layer would check again what the server holds to.
        message = await self._raw_receive()
        if message["type"] == "websocket.disconnect":
            raise WebSocketDisconnect(message.get("code", 1005))
        data: str | bytes = message.get("text") or message.get("bytes") or b""
        return data

    async def _read(self) -> None:
        while self._closing is None and not self._draining:
            data = await self._receive()
            if self._draining:
                return
            try:
                raw = orjson.loads(data)
            except orjson.JSONDecodeError as error:
                self.refuse(None, InvalidRequest(f"the frame is not JSON: {error}", errors=[fault("", "is not JSON")]))
                continue
            if not isinstance(raw, dict):
                self.refuse(None, InvalidRequest("a frame is a JSON object", errors=[fault("", "must be an object")]))
                continue
            self._used = self._used or raw.get("type") != "sign_in"
            await frames.answer(self, raw)
            while len(self.in_flight) + len(self._out) >= limits.COMMANDS_IN_FLIGHT and self._closing is None:
                self._room.clear()
                await self._room.wait()

    # Answers

    def done(self, frame: Frame, **content: Any) -> None:
        if frame.ref is None:
            self._enqueue({"type": "done", **content})
        else:
            self._enqueue({"type": "done", "ref": frame.ref, **content})

    def refuse(self, ref: str | int | None, problem: Problem) -> None:
        metrics.REFUSALS.labels(problem.name).inc()
        answer: dict[str, Any] = {"type": "refused", "problem": problem.document()}
        if ref is not None:
            answer["ref"] = ref
        self._enqueue(answer)
        now = time.monotonic()
        refusals = self._refusals = self._refusals or deque()  # most connections never have one
        refusals.append(now)
        while refusals[0] < now - 60:
            refusals.popleft()
        if len(refusals) > limits.REFUSALS_PER_MINUTE:
            self.close(ABUSE, "too many refused frames")

    def failed(self, ref: str | int | None, error: BaseException) -> None:
        """Refuse a command for whatever reason it failed."""
        if not isinstance(error, Problem):
            log.error("frame.failed", exc_info=error)
            error = InternalError("this is a bug of the service; the log says more")
        self.refuse(ref, error)

    def _enqueue(self, answer: dict[str, Any]) -> None:
        self._out.append(rows.dump(answer))
        self._something.set()

    # Sending

    async def _send(self) -> None:
        while True:
            while self._out:
                await self._outlet.first_of(self._out)
                self._room.set()
            if self._draining and self._closing is None and not self.in_flight:
                self._closing = (GOING_AWAY, "the service is stopping")
            if self._closing is not None:
                await self._socket.close(*self._closing)
                self._room.set()
                return
            following = self._following
            if following is not None and following.pending and not self._draining:
                event = await following.next()
                if isinstance(event, Delivery) and event.read:
                    await self._answers_first()
                while self._out:  # what was answered while this was looked for
                    await self._outlet.first_of(self._out)
                    self._room.set()
                if event is not None:
                    text = frame_of(event)
                    await self._outlet.send([text], len(text))
                continue
            self._something.clear()
            waits = following is not None and following.pending and not self._draining
            if not (waits or self._out or self._closing or (self._draining and not self.in_flight)):
                await self._something.wait()

    async def _answers_first(self) -> None:
        """A change set can hold what a command of this connection has just done: its answer goes first, so that a
        client never has the message before it knows that it is its own. What a commit of this process left is
        answered by then; of what was read from the store, the answers may be still to come."""
        asked = set(self.in_flight)
        while (asked & self.in_flight or self._out) and self._closing is None:
            if self._out:
                await self._outlet.first_of(self._out)
                self._room.set()
            else:
                self._something.clear()
                await self._something.wait()
