"""One message: show, edit, remove, its earlier bodies."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Header, Path, Query, Request

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.commands import Edit, Remove
from nestrel.core.objects import EditPage, Message
from nestrel.core.problems import Expired, NotFound
from nestrel.core.rights import Action
from nestrel.service.access import does
from nestrel.service.commands import revs_of
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented
from nestrel.service.intake import takes
from nestrel.service.listing import listed
from nestrel.service.models import EditMessage, ListQuery
from nestrel.store.access import see
from nestrel.store.native import Connection
from nestrel.store.read import edits, history
from nestrel.store.rows import Wire

router = APIRouter(prefix="/conversations/{conversation_id}/messages/{seq}", route_class=JsonRoute, tags=["messages"])

SeqPath = Annotated[int, Path(ge=0, le=limits.SEQ_MOST)]


async def kept(connection: Connection, conversation_id: UUID, seq: int, caller: Caller) -> Wire:
    """The message as it now stands, for a caller who may see it.

    Raises:
        NotFound: there is no such conversation or message.
        Expired: it lies below the floor.
    """
    access = await see(connection, conversation_id, caller, Action.SEE)
    if 1 <= seq < access.floor:
        raise Expired(f"message {seq} is no longer kept; the conversation now begins at {access.floor}")
    message = await history.one(connection, conversation_id, seq)
    if message is None:
        raise NotFound(f"there is no message {seq}; the newest is {access.head}")
    return message


def shown(message: Wire) -> Json:
    """A message with its entity tag (RFC 9110, 8.8.3): its `rev`."""
    return Json(message, headers={"ETag": f'"{message["rev"]}"'})


@router.get("", responses=documented(Message))
@does(Action.SEE)
async def show(conversation_id: UUID, seq: SeqPath, service: ServiceDep, caller: CallerDep) -> Json:
    """One message as it now stands; 410 once it is below the floor."""
    async with service.database.read() as connection:
        return shown(await kept(connection, conversation_id, seq, caller))


@router.patch("", responses=documented(Message))
@does(Action.EDIT)
@takes(limits.MESSAGE_REQUEST_BYTES)
async def edit(
    conversation_id: UUID,
    seq: SeqPath,
    wanted: EditMessage,
    service: ServiceDep,
    caller: CallerDep,
    if_match: Annotated[str | None, Header(description='the `rev` that you have read, as in `"12"`')] = None,
) -> Json:
    """Give your message a new body; the earlier one is kept. With `If-Match` a message that has changed meanwhile is
    left alone, and the refusal (412) shows it. The same body again changes nothing."""
    revs = revs_of(if_match)
    command = Edit(
        conversation_id, caller.user_id, seq, wanted.body, wanted.format, revs, caller.service, wanted.named,
        wanted.bears,
    )  # fmt: skip
    return shown((await service.writer.submit([command]))[0].object)


@router.delete("", responses=documented(Message))
@does(Action.REMOVE)
async def remove(conversation_id: UUID, seq: SeqPath, service: ServiceDep, caller: CallerDep) -> Json:
    """Take a message away: its content goes for good and a tombstone stays, which is the answer, also the next time.
    For its author, moderators and owners."""
    command = Remove(conversation_id, caller.user_id, seq, caller.service, caller.request_id)
    return shown((await service.writer.submit([command]))[0].object)


@router.get("/edits", responses=documented(EditPage))
@does(Action.SEE)
async def earlier(
    conversation_id: UUID,
    seq: SeqPath,
    query: Annotated[ListQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> Json:
    """Earlier bodies, oldest first: when each was written, when it was replaced, and by whom."""

    async def read(connection: Connection, after: str) -> tuple[list[Wire], str | None]:
        await kept(connection, conversation_id, seq, caller)
        return await edits.page(connection, conversation_id, seq, query.limit, int(after or 0))

    return await listed(request, service, caller, query, f"edits {conversation_id} {seq}", read, "edited_by")
