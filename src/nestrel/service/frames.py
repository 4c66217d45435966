"""What each client frame does. A frame is checked like a request and answered with `done` or `refused`."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from nestrel.core import limits
from nestrel.core.commands import Command, Edit, React, Read, Remove
from nestrel.core.problems import Forbidden, InvalidRequest, Problem, SlowDown, fault, invalid
from nestrel.service import problems
from nestrel.service.commands import make_post
from nestrel.service.listing import opened
from nestrel.service.models import (
    EditFrame,
    FollowAllFrame,
    FollowFrame,
    Frame,
    PostFrame,
    ReactFrame,
    ReadFrame,
    RemoveFrame,
    SignInFrame,
    UnfollowFrame,
    UnreactFrame,
)
from nestrel.store import conversations, snapshots
from nestrel.store.access import not_found, see
from nestrel.store.batch import Written

if TYPE_CHECKING:
    from nestrel.service.socket import Session

_REF_CHARS = 128


async def answer(session: Session, raw: dict[str, Any]) -> None:
    """Check one frame and carry it out; whatever is wrong with it is answered and never ends the connection."""
    ref = raw.get("ref")
    if isinstance(ref, bool) or not (ref is None or isinstance(ref, (str, int))) or len(str(ref)) > _REF_CHARS:
        session.refuse(None, invalid("/ref", f"must be a whole number or a text of at most {_REF_CHARS} characters"))
        return
    name = raw.get("type")
    known = _FRAMES.get(name) if isinstance(name, str) else None
    if known is None:
        detail = f"must be one of {', '.join(sorted(_FRAMES))}"
        session.refuse(ref, InvalidRequest(f"type: {detail}", errors=[fault("/type", detail)]))
        return
    model, handle = known
    try:
        await handle(session, model.model_validate(raw))
    except ValidationError as error:
        session.refuse(ref, problems.from_validation(error.errors(include_url=False), skip=0))
    except Problem as problem:
        session.refuse(ref, problem)
    except Exception as error:
        session.failed(ref, error)


def _write(session: Session, frame: Frame, command: Command) -> None:
    """Hand a command to the write path in the order of the frames, and answer when it is durable: with the message,
    or with the receipt's own fields."""
    session.service.count_command(session.caller)
    session.in_flight += 1

    def answered(answer: list[Written] | Exception) -> None:
        session.in_flight -= 1
        if isinstance(answer, Exception):
            session.failed(frame.ref, answer)
        elif isinstance(command, Read):
            session.done(frame, **answer[0].object)
        else:
            session.done(frame, message=answer[0].object)

    session.service.writer.offer([command], answered)


async def _post(session: Session, frame: Any) -> None:
    _write(session, frame, make_post(frame.conversation_id, session.caller, frame, frame.key))


async def _edit(session: Session, frame: Any) -> None:
    caller, revs = session.caller, None if frame.rev is None else frozenset({frame.rev})
    edit = Edit(frame.conversation_id, caller.user_id, frame.seq, frame.body, frame.format, revs, caller.service)
    _write(session, frame, edit)


async def _remove(session: Session, frame: Any) -> None:
    caller = session.caller
    _write(session, frame, Remove(frame.conversation_id, caller.user_id, frame.seq, caller.service))


async def _react(session: Session, frame: Any) -> None:
    caller, on = session.caller, frame.type == "react"
    react = React(frame.conversation_id, caller.user_id, frame.seq, frame.symbol, on, caller.service)
    _write(session, frame, react)


async def _read(session: Session, frame: Any) -> None:
    caller = session.caller
    _write(session, frame, Read(frame.conversation_id, caller.user_id, frame.read_seq, caller.service))


async def _follow(session: Session, frame: Any) -> None:
    """Follow one conversation, from a cursor or from now on. The follower is registered before access is looked at:
    whoever loses it in between is told by the hub."""
    service, caller, conversation_id = session.service, session.caller, frame.conversation_id
    start = None
    if frame.cursor is not None:
        start = opened(service.seal.open_conversation, caller.user_id, conversation_id, frame.cursor)
    if conversation_id not in session.follows and len(session.follows) >= limits.FOLLOWS_PER_SOCKET:
        raise SlowDown(f"one connection follows at most {limits.FOLLOWS_PER_SOCKET:,} conversations; unfollow some")
    (follower,) = await service.hub.follow([conversation_id], caller.user_id, session)
    try:
        async with service.database.read() as connection:
            access = await see(connection, conversation_id, caller)
        if not access.standing.may_follow:
            raise Forbidden("only members follow a conversation; join it first")
    except BaseException:
        service.hub.unfollow(follower)
        raise
    present = session.follows.get(conversation_id)
    if present is not None:
        service.hub.unfollow(follower)
        follower = present
    elif follower.live:
        session.add_follow(follower)
    else:
        raise not_found(conversation_id)  # membership ended while we looked
    if start is not None and (follower.at is None or present is None or start.rev < follower.at.rev):
        follower.at, follower.cursor = start, frame.cursor
    session.done(frame, conversation_id=str(conversation_id), cursor=session.cursor_of(follower))
    session.wake(follower)


async def _follow_all(session: Session, frame: Any) -> None:
    """Follow every conversation of the member's, from now on, and those joined later."""
    service, caller = session.service, session.caller
    service.hub.watch(caller.user_id, session)
    session.follows_all = True
    async with service.database.read() as connection:
        at = await snapshots.now(connection)
        mine = await conversations.ids_of(connection, caller.user_id, limits.FOLLOWS_PER_SOCKET + 1)
    if len(mine) > limits.FOLLOWS_PER_SOCKET:
        raise SlowDown(f"one connection follows at most {limits.FOLLOWS_PER_SOCKET:,} conversations")
    followers = await service.hub.follow(
        [conversation_id for conversation_id in mine if conversation_id not in session.follows], caller.user_id, session
    )
    async with service.database.read() as connection:
        still = set(await conversations.ids_of(connection, caller.user_id, limits.FOLLOWS_PER_SOCKET + 1))
    for follower in followers:
        if follower.channel.id in session.follows or follower.channel.id not in still or not follower.live:
            service.hub.unfollow(follower)
        else:
            session.add_follow(follower)
            session.wake(follower)
    session.done(frame, cursor=service.seal.all(caller.user_id, at))


async def _unfollow(session: Session, frame: Any) -> None:
    session.remove_follow(frame.conversation_id)
    session.done(frame)


async def _sign_in(session: Session, frame: Any) -> None:
    await session.sign_in(frame)


_Handler = Callable[["Session", Any], Awaitable[None]]

_FRAMES: dict[str, tuple[type[Frame], _Handler]] = {
    "sign_in": (SignInFrame, _sign_in),
    "follow": (FollowFrame, _follow),
    "follow_all": (FollowAllFrame, _follow_all),
    "unfollow": (UnfollowFrame, _unfollow),
    "post": (PostFrame, _post),
    "edit": (EditFrame, _edit),
    "remove": (RemoveFrame, _remove),
    "react": (ReactFrame, _react),
    "unreact": (UnreactFrame, _react),
    "read": (ReadFrame, _read),
}
