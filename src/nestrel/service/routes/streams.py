"""Change sets as server-sent events (the HTML standard's `text/event-stream`), for clients without WebSocket."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import AsyncIterator, Callable, Iterator
from datetime import UTC, datetime
from secrets import token_hex
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Query, Request
from starlette.responses import StreamingResponse
from starlette.types import Receive, Scope, Send

from nestrel.core.callers import Caller
from nestrel.core.problems import StoreUnavailable
from nestrel.core.rights import Action
from nestrel.core.roles import Kind
from nestrel.live.deliveries import Checkpoint, Delivery, Ended, Event, Rewound
from nestrel.live.waiting import happens
from nestrel.service import metrics
from nestrel.service.access import does
from nestrel.service.addressing import signalled, written
from nestrel.service.following import follow_everything, following_of
from nestrel.service.http import CallerDep, JsonRoute, ServiceDep, documented
from nestrel.service.listing import all_since, opened
from nestrel.service.models import AllStreamQuery, StreamQuery
from nestrel.service.state import Service
from nestrel.service.tokens import Identity
from nestrel.service.underway import Underway
from nestrel.store import rows
from nestrel.store.events import Signal

router = APIRouter(tags=["changes"], route_class=JsonRoute)

_COMMENT_SECONDS = 15.0
_EVENTS = documented(None)
_EVENTS[200] = {"description": "A stream of events", "content": {"text/event-stream": {}}}


@router.get("/conversations/{conversation_id}/stream", response_class=StreamingResponse, responses=_EVENTS)
@does(Action.FOLLOW)
async def one(
    conversation_id: UUID,
    query: Annotated[StreamQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> StreamingResponse:
    """Change sets of one conversation from a cursor on, or from now on: `event: changes`, with the conversation cursor
    as `id:`; `event: unfollowed`, and the end, when it is yours no more. A comment comes every 15 s."""
    cursor = request.headers.get("last-event-id") or query.cursor
    start = None
    if cursor is not None:
        start = opened(service.seal.open_conversation, caller.user_id, conversation_id, cursor)
    stream = Stream(service, caller, request, one=True)
    with stream.ended_by_failure():
        await stream.begin()
        await stream.following.follow(conversation_id, start, cursor)
        stream.rewound = start is not None and service.history.present != start.epoch
    return EventResponse(stream)


@router.get("/stream", response_class=StreamingResponse, responses=_EVENTS)
@does(Action.OWN, Action.FOLLOW)
async def every(
    query: Annotated[AllStreamQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> StreamingResponse:
    """Change sets of all your conversations from an all cursor on, or from now on, without an `id:`; and when something
    was sent, `event: checkpoint` every few seconds, with the all cursor as `id:` and as data. With `scope=all`, by a
    trusted backend, those of every conversation."""
    cursor = request.headers.get("last-event-id") or query.cursor
    if query.scope == "all":
        return await _everything(service, caller, request, query.kind, cursor)
    since = None
    if cursor is not None:
        since = all_since(opened(service.seal.open_all, caller.user_id, cursor))
    stream = Stream(service, caller, request, one=False)
    with stream.ended_by_failure():
        await stream.begin()
        async with service.coming:
            _, stream.from_nothing = await stream.following.follow_all(since)
        stream.rewound = since is not None and not stream.from_nothing and service.history.present != since.epoch
    return EventResponse(stream)


async def _everything(
    service: Service, caller: Caller, request: Request, kind: Kind | None, cursor: str | None
) -> StreamingResponse:
    stream = Stream(service, caller, request, one=False)
    with stream.ended_by_failure():
        await stream.begin()
        _, stream.rewound = await follow_everything(service, stream.following, kind, cursor, stream.stir)
    return EventResponse(stream)


class Stream:
    """One open stream. The server takes the next event only when the last one has gone out, so nothing piles up."""

    def __init__(self, service: Service, caller: Caller, request: Request, *, one: bool) -> None:
        self.sending_since: float | None = None
        self.from_nothing = self.rewound = False
        """How it begins: at nothing, or where the database was restored or failed over since the cursor was made."""
        self.client = request.scope.get("client")
        self.connection = request.scope.get("nestrel.connection")
        self._service = service
        self._one = one
        self._something = asyncio.Event()
        self._closed = service.draining
        self._seated = False
        self.id, self.kind, self.since = token_hex(8), "stream", datetime.now(UTC)
        self._expiry: asyncio.TimerHandle | None = None
        self.identity: Identity = request.scope["nestrel.identity"]
        self._underway: Underway = request.scope["nestrel.underway"]
        self.following = following_of(service, caller, self.stir)

    async def begin(self) -> None:
        """Be there for the drain, and for no longer than the token."""
        await self._service.check_seats(self.identity)
        self._service.seats.take(self.identity.user_id, self, service=self.identity.service)
        self._seated = True
        self._service.sessions.add(self)
        self._service.underway.discard(self._underway)  # which is ended in order, and not cut
        metrics.STREAMS.inc()
        left = self.identity.expires_at - time.time()
        # An event loop's timer has a limit of its own; a stream for longer than a day can as well begin anew.
        self._expiry = asyncio.get_running_loop().call_later(min(max(left, 0), 86_400), self.close, 0, "")

    @property
    def stir(self) -> Callable[[], None]:
        """To be called when there may be something to send; it does not lead back to the stream."""
        return self._something.set

    def end(self) -> None:
        """Forget everything."""
        if self._expiry is not None:
            self._expiry.cancel()
        self.following.end_all()
        if self._seated:
            self._seated = False
            self._service.seats.leave(self)
            metrics.STREAMS.dec()
            self._service.left(self)

    @contextlib.contextmanager
    def ended_by_failure(self) -> Iterator[None]:
        """For what comes before the answer."""
        try:
            yield
        except BaseException:
            self.end()
            raise

    def close(self, _code: int, _reason: str) -> None:
        self._closed = True
        self._something.set()

    def drain(self) -> None:
        self.close(0, "")

    async def events(self) -> AsyncIterator[str]:
        """The texts to send, and how long the other side takes for each."""
        async for text in self._texts():
            self.sending_since = time.monotonic()
            yield text
            self.sending_since = None

    async def _texts(self) -> AsyncIterator[str]:
        yield ": here\n\n"
        if self.from_nothing:
            yield "event: reset\ndata: {}\n\n"
        elif self.rewound:
            yield self._text(Rewound())
        while not self._closed:
            self._something.clear()
            event = None
            if self.following.pending:
                with contextlib.suppress(StoreUnavailable):
                    event = await self.following.next()
            if event is not None:
                yield self._text(event)
                if self._one and isinstance(event, Ended):
                    return
            elif not self._something.is_set() and not await happens(self._something, _COMMENT_SECONDS):
                yield ": here\n\n"

    def _text(self, event: Event) -> str:
        if isinstance(event, Rewound):
            return "event: rewound\ndata: {}\n\n"
        if isinstance(event, Delivery):
            id_ = f"id: {event.cursor}\n" if self._one else ""
            return f"event: changes\n{id_}data: {written(event.base, event.cursor, event.tail)}\n\n"
        if isinstance(event, Checkpoint):
            return f"event: checkpoint\nid: {event.cursor}\ndata: {event.cursor}\n\n"
        if isinstance(event, Signal):
            return f"event: signal\ndata: {rows.dump(signalled(event)).decode()}\n\n"
        data = rows.dump({"conversation_id": str(event.conversation_id), "reason": event.reason}).decode()
        return f"event: unfollowed\ndata: {data}\n\n"


class EventResponse(StreamingResponse):
    """Sends a stream, and ends it however that ends."""

    def __init__(self, stream: Stream) -> None:
        headers = {"Cache-Control": "no-store", "X-Accel-Buffering": "no"}
        super().__init__(stream.events(), media_type="text/event-stream", headers=headers)
        self._stream = stream

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """The base would cancel the sending when the other side goes, and leave behind frames and errors that hold each
        other; this one lets it come to its end."""
        listening = asyncio.create_task(self._until_gone(receive))
        try:
            await self.stream_response(send)
        finally:
            listening.cancel()
            self._stream.end()
            await asyncio.wait({listening})

    async def _until_gone(self, receive: Receive) -> None:
        try:
            while (await receive())["type"] != "http.disconnect":
                pass
        finally:
            self._stream.close(0, "")
