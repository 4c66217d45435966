"""In and out in open formats: JSON Lines and CSV out, JSON Lines in."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncGenerator, AsyncIterator, Callable, Sequence
from contextlib import aclosing
from typing import Annotated, Any
from uuid import UUID

from fastapi import APIRouter, Query, Request
from starlette.responses import StreamingResponse

from nestrel.core import limits, spreadsheets
from nestrel.core.audit import Act
from nestrel.core.callers import Caller
from nestrel.core.commands import Post
from nestrel.core.kept_objects import ImportAnswer
from nestrel.core.problems import Expired, Forbidden, Problem, TooLarge, invalid
from nestrel.core.rights import Action
from nestrel.service import importing
from nestrel.service.access import does
from nestrel.service.http import CallerDep, Json, JsonRoute, ServiceDep, documented, documented_text
from nestrel.service.intake import takes
from nestrel.service.state import Service
from nestrel.service.transfer_models import ExportQuery, ImportLine
from nestrel.store.access import see
from nestrel.store.keep import archive, exporting
from nestrel.store.native import Connection
from nestrel.store.rows import Wire
from nestrel.store.write import audit, erased
from nestrel.store.write.answers import Written

router = APIRouter(route_class=JsonRoute, tags=["export and import"])

_TYPES = {"jsonl": "application/jsonl", "csv": "text/csv; charset=utf-8"}
_EXPORT = documented_text("One message a line", "application/jsonl", "text/csv")
_IMPORT = {
    "requestBody": {
        "required": True,
        "description": f"JSON Lines, at most {limits.IMPORT_LINES:,} of them",
        "content": {"application/jsonl": {"schema": ImportLine.model_json_schema()}},
    }
}
_UNIT = 1_000
"""Lines that one transaction imports."""
_BREATH = 50


@router.get("/conversations/{conversation_id}/export", response_class=StreamingResponse, responses=_EXPORT)
@does(Action.SEE)
async def export(
    conversation_id: UUID,
    query: Annotated[ExportQuery, Query()],
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
) -> StreamingResponse:
    """A conversation as of now, message by message: each with its earlier bodies and everyone who reacted. The live
    part is for everyone who may read it, the archive for owners and backends."""
    async with service.database.read() as connection:
        access = await see(connection, conversation_id, caller, Action.SEE)
        written = await archive.written(connection, conversation_id) if query.archived else None
    if query.archived and not access.standing.may(Action.ARCHIVE):
        raise Forbidden("only an owner exports the archive")

    if access.standing.role is None and caller.service:
        await _note(service, caller, Act.EXPORTED, conversation_id, None)

    async def holds(connection: Connection) -> bool:
        return written is None or await archive.written(connection, conversation_id) == written

    write = _writer(query)
    return _stream(
        service,
        request,
        query,
        service.replicas.read_on(access, holds, lambda connection, after: write(connection, conversation_id, after)),
    )


@router.get("/export", response_class=StreamingResponse, responses=_EXPORT)
@does(Action.SERVE)
async def export_all(
    query: Annotated[ExportQuery, Query()], request: Request, service: ServiceDep, caller: CallerDep
) -> StreamingResponse:
    """Every conversation, one after the other, as of one moment; for a trusted backend."""
    await _note(service, caller, Act.EXPORTED, None, {"all": True})
    write = _writer(query)

    async def texts() -> AsyncGenerator[bytes]:
        async with service.database.snapshot(patient=True) as connection:
            async for one in exporting.every(connection):
                async with aclosing(write(connection, one, 0)) as parts:
                    async for _, text in parts:
                        yield text

    return _stream(service, request, query, texts())


async def _note(
    service: Service, caller: Caller, act: Act, conversation_id: UUID | None, after: dict[str, Any] | None
) -> None:
    """Write down, before it begins, what takes many steps."""
    async with service.database.write() as connection:
        await audit.record(connection, caller, act, conversation_id=conversation_id, after=after)


def _writer(query: ExportQuery) -> Callable[[Connection, UUID, int], AsyncGenerator[exporting.Part]]:
    """Writes what is asked for of one conversation, from behind a number."""
    write = exporting.table if query.form == "csv" else exporting.jsonl
    return lambda connection, conversation_id, after: write(
        connection, conversation_id, live=query.live, archived=query.archived, after=after
    )


def _stream(service: Service, request: Request, query: ExportQuery, texts: AsyncGenerator[bytes]) -> StreamingResponse:
    service.exports.check()
    reader = request.scope.get("nestrel.connection")
    return StreamingResponse(_chunks(service, reader, query, texts), media_type=_TYPES[query.form])


async def _chunks(
    service: Service, reader: object, query: ExportQuery, texts: AsyncGenerator[bytes]
) -> AsyncIterator[bytes]:
    """What is taken for an export is taken here, so that it is given back also if nobody is left to read it."""
    async with service.exports.turn(reader) as running, aclosing(texts):
        if query.form == "csv":
            yield (",".join(spreadsheets.COLUMNS) + "\r\n").encode()
        async for text in texts:
            running.moved()
            yield text


@router.post("/conversations/{conversation_id}/import", responses=documented(ImportAnswer), openapi_extra=_IMPORT)
@does(Action.IMPORT)
@takes(limits.IMPORT_BYTES)
async def import_(
    conversation_id: UUID,
    request: Request,
    service: ServiceDep,
    caller: CallerDep,
    behind: Annotated[int, Query(ge=0, le=limits.SEQ_MOST, description="The last `seq` of the call before.")] = 0,
) -> Json:
    """Bring in messages that were written elsewhere, with their authors and times, in the order of time; for a trusted
    backend. A line that cannot be taken is refused by its number and the others go in; what is here already, by its
    key, is not added again. With `behind`, nothing is taken where the conversation does not reach that number any
    more, as after a restore: what came before would be older than the head then, and could not be brought in again."""
    async with service.database.read() as connection:
        await see(connection, conversation_id, caller, Action.IMPORT)
    raw = (await request.body()).splitlines()
    if len(raw) > limits.IMPORT_LINES:
        raise TooLarge(f"one call imports at most {limits.IMPORT_LINES:,} lines; send the rest in further calls")
    if not raw:
        raise invalid("", "there is no line to import")
    await _note(service, caller, Act.IMPORTED, conversation_id, {"lines": len(raw)})
    # One unit is read while the one before it is written, and never sent before that is durable: were one to fail
    # and a later one to land, the lines of the first would be older than the head, and lost for good.
    lines: list[Post | Problem] = []
    answers: list[Written | Problem] = []
    writing: asyncio.Future[list[Written]] | None = None
    try:
        for start in range(0, len(raw), _UNIT):
            for n, line in enumerate(raw[start : start + _UNIT]):
                lines.append(importing.read(conversation_id, line, lines))
                if n % _BREATH == 0:
                    await asyncio.sleep(0)  # others have their turn, and what was read before is written meanwhile
            await _refuse_erased(service, lines, start)
            answers += _merged(lines[len(answers) : start], await writing if writing is not None else [])
            unit = _unit(lines, answers, start)
            behind = max(behind, *(one.object.get("seq") or 0 for one in answers if not isinstance(one, Problem)), 0)
            if unit:
                unit[0].behind = behind
            writing = service.writer.submit(unit) if unit else None
        answers += _merged(lines[len(answers) :], await writing if writing is not None else [])
    finally:
        if writing is not None and not writing.done():
            writing.cancel()  # the caller has gone; what is under way goes on
    return Json(_answer(answers))


async def _refuse_erased(service: Service, lines: list[Post | Problem], start: int) -> None:
    """Refuse the lines from `start` on that name an identity that was erased."""
    named = [set[str]() if isinstance(line, Problem) else line.people() for line in lines[start:]]
    gone = await service.bars.erased_among(set().union(*named))
    for n, people in enumerate(named, start) if gone else ():
        if people & gone:
            lines[n] = erased.already("/author_id")


def _unit(lines: list[Post | Problem], answers: Sequence[Written | Problem], start: int) -> list[Post]:
    """The posts among the lines from `start` on. A reply to a line of an earlier unit gets the number that this one
    has; one to a line of its own unit, its place there."""
    unit: list[Post] = []
    places: dict[int, int] = {}
    for n, line in enumerate(lines[start:], start):
        if isinstance(line, Problem):
            continue
        if line.answers is not None and line.answers < start:
            answer = answers[line.answers]
            line.answered = None if isinstance(answer, Problem) else answer.object.get("seq")
            line.answers = None
            if line.answered is None:
                lines[n] = invalid("/reply_line", "the line that it replies to was refused")
                continue
        elif line.answers is not None and line.answers not in places:
            lines[n] = invalid("/reply_line", "the line that it replies to was refused")
            continue
        elif line.answers is not None:
            line.answers = places[line.answers]
        places[n] = len(unit)
        unit.append(line)
    return unit


def _merged(lines: Sequence[Post | Problem], written: Sequence[Written]) -> list[Written | Problem]:
    """The answer to each line: what was written of it, or what was wrong with it."""
    rest = iter(written)
    return [next(rest) if isinstance(line, Post) else line for line in lines]


def _answer(lines: Sequence[Written | Problem]) -> Wire:
    added, seqs, refused = 0, list[int | None](), list[Wire]()
    for n, line in enumerate(lines, 1):
        problem = line if isinstance(line, Problem) else line.object.get("refused")
        seqs.append(None if isinstance(line, Problem) else line.object.get("seq"))
        added += isinstance(line, Written) and line.new
        # What was brought before and has expired since is no fault of the line.
        if problem is not None and not isinstance(problem, Expired):
            refused.append({"line": n, "detail": problem.detail})
    return {"added": added, "repeated": len(lines) - added - len(refused), "seqs": seqs, "refused": refused}
