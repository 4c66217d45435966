"""Archive segments: runs of expired messages as compressed JSON Lines, written with what takes the messages away."""

from __future__ import annotations

import asyncio
import zlib
from collections import Counter
from collections.abc import AsyncIterator, Callable, Coroutine, Sequence
from datetime import datetime
from hashlib import sha256
from typing import Any, NamedTuple
from uuid import UUID

import orjson

from nestrel.store import rows
from nestrel.store.keep import records
from nestrel.store.keep.records import Record
from nestrel.store.native import Connection, execute, fetch
from nestrel.store.rows import Wire

_ARCHIVE_COLUMNS = "segment, first_seq, last_seq, messages, bytes, sha256, archived_at"
_ARCHIVE_PAGE = f"""
SELECT {_ARCHIVE_COLUMNS} FROM nestrel.archive_segments WHERE conversation_id = $1 AND segment > $2
ORDER BY segment LIMIT $3
"""
_ARCHIVE_ONE = (
    f"SELECT {_ARCHIVE_COLUMNS}, content FROM nestrel.archive_segments WHERE conversation_id = $1 AND segment = $2"
)
_DIGEST = "SELECT sha256 FROM nestrel.archive_segments WHERE conversation_id = $1 AND segment = $2"
_WRITTEN = "SELECT count(*), max(archived_at) FROM nestrel.archive_segments WHERE conversation_id = $1"
_LAST = """
SELECT segment, first_seq, last_seq, messages FROM nestrel.archive_segments
WHERE conversation_id = $1 ORDER BY segment DESC LIMIT 1 FOR UPDATE
"""
_ARCHIVE_PUT = """
INSERT INTO nestrel.archive_segments (conversation_id, segment, first_seq, last_seq, messages, bytes, sha256, content)
VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
ON CONFLICT (conversation_id, segment) DO UPDATE
SET last_seq = excluded.last_seq, messages = excluded.messages, bytes = excluded.bytes, sha256 = excluded.sha256,
    content = excluded.content, archived_at = clock_timestamp()
"""
_ARCHIVE_AUTHORS = """
INSERT INTO nestrel.archive_authors AS a (author_id, conversation_id, segment, messages)
SELECT u.author_id, $1, $2, u.messages FROM unnest($3::text[], $4::int[]) AS u (author_id, messages)
ON CONFLICT (author_id, conversation_id, segment) DO UPDATE SET messages = a.messages + excluded.messages
"""
_OF_AUTHOR = """
SELECT segment FROM nestrel.archive_authors WHERE author_id = $1 AND conversation_id = $2 ORDER BY segment LIMIT 1
"""
_ARCHIVE_LOCK = "SELECT FROM nestrel.archive_segments WHERE conversation_id = $1 AND segment = $2 FOR UPDATE"
_ARCHIVE_LOOSEN = """
WITH loose AS (
    DELETE FROM nestrel.attached WHERE conversation_id = $1 AND seq = ANY($2::bigint[]) RETURNING attachment_id
)
INSERT INTO nestrel.loosened (conversation_id, attachment_id) SELECT DISTINCT $1, attachment_id FROM loose
ON CONFLICT DO NOTHING
"""
_FORGET_AUTHOR = "DELETE FROM nestrel.archive_authors WHERE author_id = $1 AND conversation_id = $2 AND segment = $3"

GROWS_UP_TO = 256
"""A last segment with fewer messages takes the next ones in, so that a conversation that expires message by message
does not end in a segment for each; beyond that, what is archived is written again no more."""
_LEVEL = 3
_GZIP = 16 + zlib.MAX_WBITS


class Segment(NamedTuple):
    """One segment; `size`, in bytes, and `sha256` are of its uncompressed lines."""

    segment: int
    first_seq: int
    last_seq: int
    messages: int
    size: int
    sha256: bytes
    archived_at: datetime

    def wire(self) -> Wire:
        return {
            "segment": self.segment,
            "first_seq": self.first_seq,
            "last_seq": self.last_seq,
            "messages": self.messages,
            "bytes": self.size,
            "sha256": self.sha256.hex(),
            "archived_at": rows.wire_time(self.archived_at),
        }


def pack(text: bytes) -> bytes:
    """Lines as gzip (RFC 1952)."""
    packer = zlib.compressobj(_LEVEL, zlib.DEFLATED, _GZIP)
    return packer.compress(text) + packer.flush()


def unpack(content: bytes) -> bytes:
    return zlib.decompress(content, _GZIP)


async def page(
    connection: Connection, conversation_id: UUID, limit: int, after: int
) -> tuple[list[Segment], int | None]:
    """Segments in order, and the number to continue after; None at the end."""
    found = [Segment(*row) for row in await fetch(connection, _ARCHIVE_PAGE, conversation_id, after, limit + 1)]
    return found[:limit], found[limit - 1].segment if len(found) > limit else None


async def read(connection: Connection, conversation_id: UUID, segment: int) -> tuple[Segment, bytes] | None:
    """One segment with its lines."""
    found = await fetch(connection, _ARCHIVE_ONE, conversation_id, segment)
    if not found:
        return None
    *columns, content = found[0]
    return Segment(*columns), await asyncio.to_thread(unpack, content)


async def digest(connection: Connection, conversation_id: UUID, segment: int) -> bytes | None:
    """The SHA-256 of a segment's lines, by which one server knows that it holds what another does; None if there is no
    such segment."""
    found = await fetch(connection, _DIGEST, conversation_id, segment)
    return bytes(found[0][0]) if found else None


async def written(connection: Connection, conversation_id: UUID) -> tuple[int, datetime | None]:
    """How many segments there are, and when one was last written: the same for two servers that hold the same."""
    [(count, at)] = await fetch(connection, _WRITTEN, conversation_id)
    return count, at


async def every(connection: Connection, conversation_id: UUID, after: int = 0) -> AsyncIterator[tuple[Segment, bytes]]:
    """All segments that hold anything behind a `seq`, in order, one at a time."""
    number = 0
    while found := (await page(connection, conversation_id, 1, number))[0]:
        number = found[0].segment
        if found[0].last_seq <= after:
            continue
        one = await read(connection, conversation_id, number)
        assert one is not None
        yield one


async def append(
    connection: Connection,
    conversation_id: UUID,
    run: Sequence[Record],
    take_away: Callable[[], Coroutine[Any, Any, None]],
) -> None:
    """Archive a run of messages that follows what is archived already, in the caller's transaction. `take_away`
    deletes them on the same connection: the store does so while the segment is compressed here."""
    number, first, text = 1, run[0].seq, b""
    found = await fetch(connection, _LAST, conversation_id)
    if found:
        last, last_first, last_seq, messages = found[0]
        number = last + 1
        if messages < GROWS_UP_TO and last_seq + 1 == first:
            number, first = last, last_first
            held = await read(connection, conversation_id, last)
            assert held is not None
            text = held[1]
    text += b"".join([line.text + b"\n" for line in run])
    _, packed = await asyncio.gather(take_away(), _pack(text))
    await _put(connection, conversation_id, number, first, run[-1].seq, len(text), *packed)
    authors = Counter(line.author_id for line in run if line.kept)
    await execute(connection, _ARCHIVE_AUTHORS, conversation_id, number, list(authors), list(authors.values()))


async def _pack(text: bytes) -> tuple[bytes, bytes]:
    """The hash of lines, and their compressed form. Both leave the interpreter to others while they run."""
    return await asyncio.to_thread(lambda: (sha256(text).digest(), pack(text)))


async def _put(
    connection: Connection, conversation_id: UUID, segment: int, first: int, last: int, size: int, digest: bytes,
    content: bytes,
) -> None:  # fmt: skip
    messages = last - first + 1
    await execute(connection, _ARCHIVE_PUT, conversation_id, segment, first, last, messages, size, digest, content)


async def erase(
    connection: Connection, conversation_id: UUID, author_id: str, erased_by: str, at: datetime
) -> int | None:
    """Make tombstones of an author's messages in one segment, in the caller's transaction; how many, None if no segment
    has any of theirs."""
    found = await fetch(connection, _OF_AUTHOR, author_id, conversation_id)
    if not found:
        return None
    number = found[0][0]
    segment, text = await _held(connection, conversation_id, number)
    tombstone = {**records.NO_CONTENT, "removed_at": rows.wire_time(at), "removed_by": erased_by}
    erased, bearing, written = 0, list[int](), []
    for line in text.splitlines():
        message = orjson.loads(line)
        if message["author_id"] == author_id and message["removed_at"] is None:
            erased += 1
            if message["attachments"]:
                bearing.append(message["seq"])
            line = orjson.dumps({**message, **tombstone})
        written.append(line + b"\n")
    await _put_again(connection, conversation_id, segment, b"".join(written))
    if bearing:
        await execute(connection, _ARCHIVE_LOOSEN, conversation_id, bearing)
    await execute(connection, _FORGET_AUTHOR, author_id, conversation_id, number)
    return erased


async def rename(connection: Connection, conversation_id: UUID, number: int, user_id: str, shown: str) -> bool:
    """Show another id in one segment where somebody's stood, without their reactions and without mentions of them, in
    the caller's transaction; whether it named them."""
    segment, text = await _held(connection, conversation_id, number)
    named = orjson.dumps(user_id)
    if named not in text:
        return False
    lines = [
        orjson.dumps(records.without(orjson.loads(line), user_id, shown)) if named in line else line
        for line in text.splitlines()
    ]
    await _put_again(connection, conversation_id, segment, b"".join(line + b"\n" for line in lines))
    return True


async def _held(connection: Connection, conversation_id: UUID, number: int) -> tuple[Segment, bytes]:
    """A segment that is there, locked, and its lines."""
    await execute(connection, _ARCHIVE_LOCK, conversation_id, number)
    held = await read(connection, conversation_id, number)
    assert held is not None
    return held


async def _put_again(connection: Connection, conversation_id: UUID, segment: Segment, text: bytes) -> None:
    """The same messages with other lines."""
    packed = await _pack(text)
    await _put(connection, conversation_id, segment.segment, segment.first_seq, segment.last_seq, len(text), *packed)
