"""What each client frame does. A frame is checked like a request and answered with `done` or `refused`."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from enum import Enum
from typing import Any, Protocol

from pydantic import ValidationError

from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, React, Read, Remove
from nestrel.core.problems import InvalidRequest, Problem, fault, invalid
from nestrel.core.rights import Action
from nestrel.live.following import Following
from nestrel.service import logs, problems
from nestrel.service.commands import make_post
from nestrel.service.following import follow_everything
from nestrel.service.frame_models import (
    EditFrame,
    FollowAllFrame,
    FollowFrame,
    Frame,
    LookingFrame,
    PingFrame,
    PostFrame,
    ReactFrame,
    ReadFrame,
    RemoveFrame,
    SignalFrame,
    SignInFrame,
    UnfollowFrame,
    UnreactFrame,
)
from nestrel.service.http import again_if_restored
from nestrel.service.listing import all_since, opened
from nestrel.service.state import Service
from nestrel.store.events import Signal
from nestrel.store.read import signalling
from nestrel.store.tracing import tracing
from nestrel.store.write.answers import Written

_REF_CHARS = 128


class SignedIn(Enum):
    """What came of a frame that signs in."""

    NO = 0
    FIRST = 1
    AGAIN = 2


class Session(Protocol):
    """The connection that a frame came on, as far as its command goes."""

    service: Service
    in_flight: set[object]
    id: str

    @property
    def caller(self) -> Caller: ...

    @property
    def following(self) -> Following: ...

    def done(self, frame: Frame, **content: Any) -> None: ...

    def refuse(self, ref: str | int | None, problem: Problem) -> None: ...

    def failed(self, ref: str | int | None, error: BaseException) -> None: ...

    @property
    def stir(self) -> Callable[[], None]: ...

    async def sign_in(self, frame: SignInFrame) -> SignedIn: ...


async def answer(session: Session, raw: dict[str, Any]) -> None:
    """Check one frame and carry it out; whatever is wrong with it is answered and never ends the connection."""
    ref = raw.get("ref")
    if isinstance(ref, bool) or not (ref is None or isinstance(ref, (str, int))) or len(str(ref)) > _REF_CHARS:
        session.refuse(None, invalid("/ref", f"must be a whole number or a text of at most {_REF_CHARS} characters"))
        return
    name = raw.get("type")
    known = FRAMES.get(name) if isinstance(name, str) else None
    if known is None:
        detail = f"must be one of {', '.join(sorted(FRAMES))}"
        session.refuse(ref, InvalidRequest(f"type: {detail}", errors=[fault("/type", detail)]))
        return
    model, handle, _ = known
    try:
        frame = model.model_validate(raw)
        if tracing.tracer is None:
            await again_if_restored(lambda: handle(session, frame))
        else:
            with tracing.door(f"frame {name}") as span:
                span.set_attribute("nestrel.request_id", logs.REQUEST_ID.get() or "")
                await again_if_restored(lambda: handle(session, frame))
    except ValidationError as error:
        session.refuse(ref, problems.from_validation(error.errors(include_url=False), skip=0))
    except Problem as problem:
        session.refuse(ref, problem)
    except Exception as error:
        session.failed(ref, error)


def _write(session: Session, frame: Frame, command: Command) -> None:
    """Hand a command to the write path in the order of the frames, and answer when it is durable: with the message,
    or with the receipt's own fields."""
    mark = object()
    session.in_flight.add(mark)

    def answered(answer: list[Written] | Exception) -> None:
        session.in_flight.discard(mark)
        if isinstance(answer, Exception):
            session.failed(frame.ref, answer)
        elif isinstance(command, Read):
            session.done(frame, **answer[0].object)
        else:
            session.done(frame, message=answer[0].object)

    session.service.writer.offer([command], answered)


async def _post(session: Session, frame: Any) -> None:
    post = make_post(frame.conversation_id, session.caller, frame, frame.key)
    await session.service.count_posts(session.caller, [post])
    _write(session, frame, post)


async def _edit(session: Session, frame: Any) -> None:
    await session.service.count_command(session.caller)
    caller, revs = session.caller, None if frame.rev is None else frozenset({frame.rev})
    place, user_id, service = frame.conversation_id, caller.user_id, caller.service
    _write(
        session,
        frame,
        Edit(place, user_id, frame.seq, frame.body, frame.format, revs, service, frame.named, frame.bears),
    )


async def _remove(session: Session, frame: Any) -> None:
    await session.service.count_command(session.caller)
    caller = session.caller
    _write(session, frame, Remove(frame.conversation_id, caller.user_id, frame.seq, caller.service, caller.request_id))


async def _react(session: Session, frame: Any) -> None:
    await session.service.count_command(session.caller)
    caller, on = session.caller, frame.type == "react"
    react = React(frame.conversation_id, caller.user_id, frame.seq, frame.symbol, on, caller.service)
    _write(session, frame, react)


async def _read(session: Session, frame: Any) -> None:
    await session.service.count_command(session.caller)
    caller = session.caller
    _write(session, frame, Read(frame.conversation_id, caller.user_id, frame.read_seq, caller.service))


async def _follow(session: Session, frame: Any) -> None:
    """Follow one conversation, from a cursor or from now on."""
    await session.service.count_read(session.caller)
    start = None
    if frame.cursor is not None:
        seal, user_id = session.service.seal, session.caller.user_id
        start = opened(seal.open_conversation, user_id, frame.conversation_id, frame.cursor)
    cursor = await session.following.follow(frame.conversation_id, start, frame.cursor)
    rewound = start is not None and session.service.history.present != start.epoch
    session.done(frame, conversation_id=str(frame.conversation_id), cursor=cursor, rewound=rewound)


async def _follow_all(session: Session, frame: Any) -> None:
    """Follow every conversation of the member's, from an all cursor or from now on, and those joined later; or, by a
    backend, every conversation of the store."""
    service, user_id = session.service, session.caller.user_id
    await service.count_read(session.caller)
    if frame.scope == "all":
        cursor, rewound = await follow_everything(service, session.following, frame.kind, frame.cursor, session.stir)
        session.done(frame, cursor=cursor, reset=False, rewound=rewound)
        return
    since = None
    if frame.cursor is not None:
        since = all_since(opened(service.seal.open_all, user_id, frame.cursor))
    async with service.coming:
        start, from_nothing = await session.following.follow_all(since)
    rewound = since is not None and not from_nothing and service.history.present != since.epoch
    session.done(frame, cursor=service.seal.all(user_id, start), reset=from_nothing, rewound=rewound)


async def _unfollow(session: Session, frame: Any) -> None:
    session.following.unfollow(frame.conversation_id)
    session.done(frame)


async def _signal(session: Session, frame: Any) -> None:
    """Tell those who follow a conversation that the member is writing in it; more than one a second is dropped."""
    service, caller = session.service, session.caller
    await service.count_command(caller)
    async with service.database.read() as connection:
        await signalling.check(connection, caller, frame.conversation_id)
    signal = Signal(frame.conversation_id, caller.user_id, frame.name)
    if service.signals.due(signal):
        service.signals.tell(signal)
    session.done(frame)


async def _looking(session: Session, frame: Any) -> None:
    """What the member is looking at now: of that nobody notifies them."""
    await session.service.count_read(session.caller)
    session.service.lookings.look(session.caller.user_id, session.id, frame.conversation_id)
    session.done(frame)


async def _ping(session: Session, frame: Any) -> None:
    """Is anyone there? For clients whose WebSocket does not say so of a line that is half open."""
    session.done(frame)


async def _sign_in(session: Session, frame: Any) -> None:
    """Sign in, and follow everything where the frame asks for that, too: whatever is wrong with that part, the line is
    signed in."""
    signed_in = await session.sign_in(frame)
    if signed_in is SignedIn.NO:
        return
    following = frame.following
    if following is None:
        return
    if signed_in is SignedIn.AGAIN:
        raise invalid("/follow_all", "goes with the first sign_in of a line; send follow_all instead")
    # Within: were the sign-in done again with it, it would be answered twice.
    await again_if_restored(lambda: _follow_all(session, following))


_Handler = Callable[[Session, Any], Awaitable[None]]

FRAMES: dict[str, tuple[type[Frame], _Handler, frozenset[Action]]] = {
    "sign_in": (SignInFrame, _sign_in, frozenset({Action.OWN})),
    "follow": (FollowFrame, _follow, frozenset({Action.FOLLOW})),
    "follow_all": (FollowAllFrame, _follow_all, frozenset({Action.OWN, Action.FOLLOW})),
    "unfollow": (UnfollowFrame, _unfollow, frozenset({Action.OWN})),
    "signal": (SignalFrame, _signal, frozenset({Action.POST})),
    "looking": (LookingFrame, _looking, frozenset({Action.OWN})),
    "ping": (PingFrame, _ping, frozenset({Action.OWN})),
    "post": (PostFrame, _post, frozenset({Action.POST})),
    "edit": (EditFrame, _edit, frozenset({Action.EDIT})),
    "remove": (RemoveFrame, _remove, frozenset({Action.REMOVE})),
    "react": (ReactFrame, _react, frozenset({Action.REACT})),
    "unreact": (UnreactFrame, _react, frozenset({Action.REACT})),
    "read": (ReadFrame, _read, frozenset({Action.READ})),
}
"""Each frame with its form, what it does, and what it is for."""
