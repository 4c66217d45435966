"""One WebSocket: reads frames, answers them, and pulls change sets for what it follows.

Two tasks: the reader takes frames in order, the sender writes answers and change sets. Neither queue can grow: answers
are bounded by the commands that may be in flight, and change sets lie in the hub until the socket is writable.
"""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections import deque
from typing import Any
from uuid import UUID

import orjson
import structlog
from starlette.types import Receive, Scope, Send
from starlette.websockets import WebSocket, WebSocketDisconnect

from nestrel.core import limits
from nestrel.core.cursors import ChangePosition
from nestrel.core.problems import InternalError, InvalidRequest, Problem, Unauthenticated, fault
from nestrel.live.hub import Follower
from nestrel.service import frames, metrics
from nestrel.service.addressing import addressed
from nestrel.service.http import bearer
from nestrel.service.models import Frame, SignInFrame
from nestrel.service.state import Service
from nestrel.service.tokens import Identity
from nestrel.store import changes as feed
from nestrel.store import rows
from nestrel.store.access import Caller, see

log = structlog.get_logger()

GOING_AWAY, SIGN_IN_AGAIN, ABUSE = 1001, 4401, 4429
_CATCH_UP_ROWS = 200
_CATCH_UP_RETRY_SECONDS = 1.0


class Live:
    """The ASGI application behind `/v1/live`."""

    def __init__(self, service: Service) -> None:
        self._service = service

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        await Session(self._service, WebSocket(scope, receive, send), receive, send).run()


class Session:
    """A signed-in connection. `Listener` of the hub."""

    def __init__(self, service: Service, socket: WebSocket, receive: Receive, send: Send) -> None:
        self.service = service
        self.follows: dict[UUID, Follower] = {}
        self.follows_all = False
        self.in_flight = 0
        self._socket = socket
        self._raw_receive = receive
        self._raw_send = send
        self._identity: Identity | None = None
        self._caller: Caller | None = None
        self._out: deque[str] = deque()
        self._dirty: dict[Follower, None] = {}
        self._something = asyncio.Event()
        self._room = asyncio.Event()
        self._closing: tuple[int, str] | None = None
        self._expiry: asyncio.TimerHandle | None = None
        self._refusals: deque[float] = deque()
        self._tasks: set[asyncio.Task[None]] = set()

    @property
    def caller(self) -> Caller:
        assert self._caller is not None
        return self._caller

    # The connection's life

    async def run(self) -> None:
        """Serve the connection until either side ends it."""
        await self._socket.accept()
        metrics.CONNECTIONS.inc()
        self.service.sessions.add(self)
        sender = asyncio.create_task(self._send())
        try:
            if self.service.draining:
                self.close(GOING_AWAY, "the service is stopping")
            elif await self._first_sign_in():
                await self._read()
            await sender
        except WebSocketDisconnect:
            pass
        finally:
            await self._end(sender)

    async def _end(self, sender: asyncio.Task[None]) -> None:
        self.service.left(self)
        metrics.CONNECTIONS.dec()
        metrics.FOLLOWS.dec(len(self.follows))
        if self._expiry is not None:
            self._expiry.cancel()
        if self._identity is not None:
            self.service.hub.unwatch(self._identity.user_id, self)
        for follower in self.follows.values():
            self.service.hub.unfollow(follower)
        self.follows.clear()
        for task in (sender, *self._tasks):
            task.cancel()
        with contextlib.suppress(asyncio.CancelledError, WebSocketDisconnect):
            await sender

    def close(self, code: int, reason: str) -> None:
        """End the connection once what is already in the queue has been sent."""
        if self._closing is None:
            self._closing = (code, reason)
            self._something.set()

    # Signing in

    async def _first_sign_in(self) -> bool:
        header = self._socket.headers.get("authorization")
        try:
            if header is not None:
                self._signed_in(await self.service.sign_in(bearer(header)), None)
                return True
            async with asyncio.timeout(limits.SIGN_IN_SECONDS):
                raw = orjson.loads(await self._receive())
                if not isinstance(raw, dict) or raw.get("type") != "sign_in":
                    raise Unauthenticated("the first frame must be sign_in")
                await frames.answer(self, raw)
                return self._identity is not None
        except TimeoutError:
            self.close(SIGN_IN_AGAIN, "no sign_in within 10 s")
        except Problem as problem:
            self.refuse(None, problem)
            self.close(SIGN_IN_AGAIN, problem.title)
        except orjson.JSONDecodeError:
            self.refuse(None, InvalidRequest("the frame is not JSON", errors=[fault("", "is not JSON")]))
            self.close(SIGN_IN_AGAIN, "the first frame must be sign_in")
        return False

    async def sign_in(self, frame: SignInFrame) -> None:
        """Sign in, or go on with a newer token of the same user; a token that is not accepted ends the connection."""
        try:
            identity = await self.service.sign_in(frame.token)
            if self._identity is not None and identity.user_id != self._identity.user_id:
                raise Unauthenticated("this connection belongs to another user; open a new one")
        except Unauthenticated as problem:
            self.refuse(frame.ref, problem)
            self.close(SIGN_IN_AGAIN, problem.detail[:100])
        else:
            self._signed_in(identity, frame.ref)

    def _signed_in(self, identity: Identity, ref: str | int | None) -> None:
        self._identity = identity
        self._caller = Caller(identity.user_id, identity.service)
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
        while self._closing is None:
            data = await self._receive()
            try:
                raw = orjson.loads(data)
            except orjson.JSONDecodeError as error:
                self.refuse(None, InvalidRequest(f"the frame is not JSON: {error}", errors=[fault("", "is not JSON")]))
                continue
            if not isinstance(raw, dict):
                self.refuse(None, InvalidRequest("a frame is a JSON object", errors=[fault("", "must be an object")]))
                continue
            await frames.answer(self, raw)
            while self.in_flight + len(self._out) >= limits.COMMANDS_IN_FLIGHT and self._closing is None:
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
        self._refusals.append(now)
        while self._refusals[0] < now - 60:
            self._refusals.popleft()
        if len(self._refusals) > limits.REFUSALS_PER_MINUTE:
            self.close(ABUSE, "too many refused frames")

    def failed(self, ref: str | int | None, error: BaseException) -> None:
        """Refuse a command for whatever reason it failed."""
        if not isinstance(error, Problem):
            log.error("frame.failed", exc_info=error)
            error = InternalError("this is a bug of the service; the log says more")
        self.refuse(ref, error)

    def _enqueue(self, answer: dict[str, Any]) -> None:
        self._out.append(rows.dump(answer).decode())
        self._something.set()

    # The hub's side

    def wake(self, follower: Follower) -> None:
        self._dirty[follower] = None
        self._something.set()

    def end(self, follower: Follower, reason: str) -> None:
        conversation_id = follower.channel.id
        self._dirty.pop(follower, None)
        if self.follows.get(conversation_id) is not follower:
            return  # whoever was about to follow finds out that it may not
        del self.follows[conversation_id]
        metrics.FOLLOWS.dec()
        self._enqueue({"type": "unfollowed", "conversation_id": str(conversation_id), "reason": reason})

    def joined(self, conversation_id: UUID) -> None:
        if conversation_id in self.follows or not self.follows_all:
            return
        task = asyncio.create_task(self._follow_joined(conversation_id))
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    async def _follow_joined(self, conversation_id: UUID) -> None:
        for follower in await self.service.hub.follow([conversation_id], self.caller.user_id, self):
            if conversation_id in self.follows:
                self.service.hub.unfollow(follower)
                continue
            follower.at = None  # a conversation that is new to the client begins with its newest page
            self.add_follow(follower)
            self.wake(follower)

    # Following

    def add_follow(self, follower: Follower) -> None:
        follower.started = True
        self.follows[follower.channel.id] = follower
        metrics.FOLLOWS.inc()

    def remove_follow(self, conversation_id: UUID) -> None:
        follower = self.follows.pop(conversation_id, None)
        if follower is not None:
            self.service.hub.unfollow(follower)
            self._dirty.pop(follower, None)
            metrics.FOLLOWS.dec()

    def cursor_of(self, follower: Follower) -> str | None:
        """The conversation cursor of all that was sent to a follower."""
        if follower.cursor is None and follower.at is not None:
            seal = self.service.seal
            follower.cursor = seal.conversation(self.caller.user_id, follower.channel.id, follower.at)
        return follower.cursor

    # Sending

    async def _send(self) -> None:
        while True:
            while self._out:
                await self._send_text(self._out.popleft())
                self._room.set()
            if self._closing is not None:
                await self._socket.close(*self._closing)
                self._room.set()
                return
            if self._dirty:
                await self._deliver(next(iter(self._dirty)))
                continue
            self._something.clear()
            if not (self._out or self._dirty or self._closing):
                await self._something.wait()

    async def _send_text(self, text: str) -> None:
        # Straight to the server: the framework's own layers cost as much again for each of many followers.
        try:
            await self._raw_send({"type": "websocket.send", "text": text})
        except OSError:
            raise WebSocketDisconnect(1006) from None

    async def _deliver(self, follower: Follower) -> None:
        """Send one change set and leave the rest for the next turn, so that answers are never far behind."""
        channel = follower.channel
        at = follower.at
        if not (follower.live and follower.started) or (
            at is not None and channel.at is not None and at.complete and at.rev >= channel.at.rev
        ):
            self._dirty.pop(follower, None)
            return
        entry = channel.next_entry(at) if at is not None and at.complete else None
        if entry is not None:
            await self._send_changes(follower, entry.end, entry.tail)
        else:
            await self._catch_up(follower)

    async def _send_changes(self, follower: Follower, end: ChangePosition, tail: str) -> None:
        cursor, text = addressed(
            self.service.seal,
            follower.user_id,
            follower.at,
            end,
            follower.channel.id,
            tail,
            base=self.cursor_of(follower),
            opening='{"type":"changes",',
        )
        follower.at, follower.cursor = end, cursor
        latest = follower.channel.at
        if latest is not None and end.complete and end.rev >= latest.rev:
            self._dirty.pop(follower, None)
        metrics.DELIVERIES.inc()
        await self._send_text(text)

    async def _catch_up(self, follower: Follower) -> None:
        """Read from the store what the ring does not hold, up to where the ring stands, so that the two meet without
        overlap; who may no longer read gets nothing."""
        conversation_id, ring_at = follower.channel.id, follower.channel.at
        try:
            async with self.service.database.read() as connection:
                access = await see(connection, conversation_id, self.caller)
                if not access.standing.may_follow:
                    self._dirty.pop(follower, None)
                    return  # the hub is about to hear of it and says why
                if follower.at is None:
                    found = await feed.newest(connection, conversation_id, _CATCH_UP_ROWS)
                else:
                    upto = ring_at if ring_at is not None and follower.at.rev <= ring_at.rev else None
                    found = await feed.since(connection, conversation_id, follower.at, _CATCH_UP_ROWS, upto=upto)
        except Problem as problem:
            self._dirty.pop(follower, None)
            if problem.status >= 500:
                asyncio.get_running_loop().call_later(_CATCH_UP_RETRY_SECONDS, self.wake, follower)
            return
        if found is None or found.closed:
            self._dirty.pop(follower, None)
            return
        metrics.CATCH_UPS.inc()
        if found.end == follower.at:
            self._dirty.pop(follower, None)
        elif follower.live:
            await self._send_changes(follower, found.end, found.tail())
