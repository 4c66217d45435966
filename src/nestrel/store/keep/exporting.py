"""Everything that a conversation holds, in order and as of one moment: what is archived, then what is live."""

from __future__ import annotations

import asyncio
import csv
import io
from collections.abc import AsyncGenerator, AsyncIterator, Iterable
from contextlib import aclosing
from uuid import UUID

import orjson

from nestrel.core.retention import Then
from nestrel.core.rights import no_conversation
from nestrel.core.spreadsheets import cells
from nestrel.store import rules
from nestrel.store.keep import archive, records
from nestrel.store.keep.records import Run
from nestrel.store.native import Connection, fetch
from nestrel.store.rows import Wire

_EXPORTING_PLACE = f"""
SELECT {rules.floor("c")}, head, after_expiry, coalesce(
    (SELECT next_seq FROM nestrel.expired_backlog WHERE conversation_id = c.id), floor)
FROM nestrel.conversations c WHERE id = $1 AND closed_at IS NULL
"""
_EVERY = "SELECT id FROM nestrel.conversations WHERE closed_at IS NULL AND id > $1 ORDER BY id LIMIT 1000"
_ROWS = 1_000

Part = tuple[int, bytes]
"""The number of the last message in it, and its lines."""


async def jsonl(
    connection: Connection, conversation_id: UUID, *, live: bool, archived: bool, after: int = 0
) -> AsyncGenerator[Part]:
    """A conversation as JSON Lines, from behind a number, in parts of whole lines. `connection` is in a transaction
    that sees one moment. What has expired and waits for the sweep counts as archived, if that is where it goes.

    Raises:
        NotFound: it was closed before it could be gone on with.
    """
    async for last, text in _segments(connection, conversation_id, after) if archived else _nothing():
        yield last, text
    async with aclosing(_runs(connection, conversation_id, live=live, archived=archived, after=after)) as runs:
        async for run in runs:
            yield run.messages[-1][0], b"\n".join([line.text for line in run.lines()]) + b"\n"


async def table(
    connection: Connection, conversation_id: UUID, *, live: bool, archived: bool, after: int = 0
) -> AsyncGenerator[Part]:
    """The same as CSV (RFC 4180) in the order of `spreadsheets.COLUMNS`, without the line that names them."""
    async for last, text in _segments(connection, conversation_id, after) if archived else _nothing():
        yield last, as_csv(orjson.loads(line) for line in text.splitlines())
    async with aclosing(_runs(connection, conversation_id, live=live, archived=archived, after=after)) as runs:
        async for run in runs:
            yield run.messages[-1][0], as_csv(run.objects())


async def _nothing() -> AsyncIterator[Part]:
    return
    yield


async def _segments(connection: Connection, conversation_id: UUID, after: int) -> AsyncIterator[Part]:
    """What is archived behind a number. A segment grows while it is the last one, and may hold what comes before."""
    async for segment, text in archive.every(connection, conversation_id, after):
        if segment.first_seq <= after:
            text = b"".join(line + b"\n" for line in text.splitlines() if orjson.loads(line)["seq"] > after)
        yield segment.last_seq, text


def as_csv(messages: Iterable[Wire]) -> bytes:
    """Message objects as CSV."""
    out = io.StringIO()
    csv.writer(out).writerows(cells(message) for message in messages)
    return out.getvalue().encode()


async def _runs(
    connection: Connection, conversation_id: UUID, *, live: bool, archived: bool, after: int
) -> AsyncGenerator[Run]:
    found = await fetch(connection, _EXPORTING_PLACE, conversation_id)
    if not found and after:
        raise no_conversation(conversation_id)  # an end that looks like the end of the conversation would be a lie
    if not found:
        return
    floor, head, then, waiting = found[0]
    low = max(after + 1, waiting if archived and then == Then.ARCHIVE else floor)
    high = head if live else floor - 1
    # The store reads the next run while this one is written and sent.
    coming = asyncio.ensure_future(records.read(connection, conversation_id, low, high, _ROWS))
    try:
        while (run := await coming).messages:
            low = run.messages[-1][0] + 1
            coming = asyncio.ensure_future(records.read(connection, conversation_id, low, high, _ROWS))
            yield run
    finally:
        if not coming.done():
            coming.cancel()
            await asyncio.wait({coming})


async def every(connection: Connection) -> AsyncIterator[UUID]:
    """All conversations, by id."""
    after = UUID(int=0)
    while found := await fetch(connection, _EVERY, after):
        for (conversation_id,) in found:
            yield conversation_id
        after = found[-1][0]
