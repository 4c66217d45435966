"""From lines of a file to calls of an import: a key for each line, and numbers of the file to numbers of the store."""

from __future__ import annotations

import asyncio
from bisect import bisect_right
from collections.abc import AsyncGenerator, Awaitable, Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from hashlib import blake2b
from itertools import islice
from typing import Any, NamedTuple

import orjson

from nestrel.core.kept_objects import ImportAnswer, RefusedLine

_END = orjson.Fragment(b"\n")
CHUNK_LINES = 4_000
_CHUNK_BYTES = 8 * 1024 * 1024
_SENT = (
    "author_id", "body", "format", "attributes", "mentions", "attachments", "created_at", "removed_at", "removed_by",
    "edited_at", "earlier", "reacted",
)  # fmt: skip
_REPLY_REFUSED = "reply_to: the line that it replies to was refused"
_CONTENT = ("author_id", "body", "format", "attributes", "created_at", "removed_at", "reply_to")


class ImportProgress(NamedTuple):
    """How far an import has come: lines and bytes read, messages added and found again. `refused` are the lines that
    could not be taken since the last time, by their number in the file. `unlinked` messages went in without the one
    that they reply to, which was not among the lines."""

    lines: int
    bytes: int
    added: int
    repeated: int
    unlinked: int
    refused: Sequence[RefusedLine]


class _Numbers:
    """Numbers of the source and the numbers here, as runs: an import in order needs one run for all."""

    def __init__(self) -> None:
        self._runs: list[tuple[int, int, int]] = []

    def add(self, source: int, here: int) -> None:
        if self._runs:
            start, at, length = self._runs[-1]
            if (source, here) == (start + length, at + length):
                self._runs[-1] = (start, at, length + 1)
                return
            if source < start + length:
                return  # a source that does not rise: what is known stays
        self._runs.append((source, here, 1))

    def find(self, source: int) -> int | None:
        index = bisect_right(self._runs, (source, 2**63, 0)) - 1
        if index < 0:
            return None
        start, at, length = self._runs[index]
        return at + source - start if source < start + length else None


@dataclass(slots=True)
class _Sendable:
    """A line that can be sent: its number in the file, its number at the source, if it has one, and its fields."""

    number: int
    source: int | None
    reply_to: int | None
    fields: dict[str, Any]


@dataclass(slots=True)
class Chunk:
    """The lines of one call, and those that need not be sent to be refused; `lost` are the numbers at the source of
    those that were refused, here or by the service."""

    lines: list[_Sendable] = field(default_factory=list)
    refused: list[RefusedLine] = field(default_factory=list)
    lost: set[int] = field(default_factory=set)
    read: int = 0
    size: int = 0

    def content(self) -> bytes:
        """The body of the call."""
        # One call writes them all, with a raw line end behind each, which is in no JSON text that this makes.
        parts = [part for line in self.lines for part in (line.fields, _END)]
        return orjson.dumps(parts)[1:-1].replace(b",\n,", b"\n").removesuffix(b",\n") if parts else b""


async def _refuse_files(_: dict[str, Any]) -> None:
    raise ValueError("attachments: it has files; say where they are, or that it is to come without them")


class Importer:
    """Keeps what an import needs from one call to the next. `start` is the number of the first line."""

    def __init__(self, start: int = 1) -> None:
        self.attach: Callable[[dict[str, Any]], Awaitable[None]] = _refuse_files
        """Makes the attachments of a line ones of this conversation. Raises `ValueError` for a line that is refused."""
        self._number = start - 1
        self._numbers = _Numbers()
        self._refused = _Numbers()
        self._moment: object = None
        self._same: dict[bytes, int] = {}
        self.reached = 0
        """The last number that was given out here: a store that was set back does not reach it any more."""
        self._lines = self._bytes = self._added = self._repeated = self._unlinked = 0

    async def chunks(self, lines: Iterable[bytes]) -> AsyncGenerator[Chunk]:
        """The calls to make. The next one is read while one is under way."""
        rest = iter(lines)
        coming = asyncio.create_task(asyncio.to_thread(self._read, rest))
        try:
            while (chunk := await coming).read:
                coming = asyncio.create_task(asyncio.to_thread(self._read, rest))
                await self._attach(chunk)
                self._link(chunk)
                yield chunk
        finally:
            coming.cancel()  # whoever asked may have left, as when the service refuses

    def _read(self, lines: Iterator[bytes]) -> Chunk:
        chunk = Chunk()
        for raw in islice(lines, CHUNK_LINES):
            self._number += 1
            chunk.read += 1
            chunk.size += len(raw)
            if raw.strip():
                try:
                    chunk.lines.append(self._line(raw))
                except ValueError as error:
                    chunk.refused.append(RefusedLine(line=self._number, detail=str(error)))
            if chunk.size > _CHUNK_BYTES:
                break
        return chunk

    def _line(self, raw: bytes) -> _Sendable:
        try:
            message = orjson.loads(raw)
        except orjson.JSONDecodeError as error:
            raise ValueError(f"is not valid JSON: {error}") from None
        if not isinstance(message, dict):
            raise ValueError("must be a JSON object")
        fields = {name: message[name] for name in _SENT if message.get(name) is not None}
        source, reply_to = message.get("seq"), message.get("reply_to")
        source = source if isinstance(source, int) else None
        fields["key"] = message.get("key") or self._key(message, source)
        if reply_to is not None and not isinstance(reply_to, int):
            raise ValueError("reply_to: must be the number of a message")
        return _Sendable(self._number, source, reply_to, fields)

    def _key(self, message: dict[str, Any], source: int | None) -> str:
        """A key that is the same in each run over the same lines: where the message came from; else its content, and
        which of several equal ones of one moment it is."""
        if source is not None and isinstance(message.get("conversation_id"), str):
            return f"{message['conversation_id']}:{source}"
        moment = message.get("created_at")
        if moment is None:
            return f"line:{self._number}:{_digest(message).hex()}"
        if moment != self._moment:
            self._moment, self._same = moment, {}
        content = _digest(message)
        self._same[content] = nth = self._same.get(content, 0) + 1
        return f"content:{content.hex()}:{nth}"

    async def _attach(self, chunk: Chunk) -> None:
        """Bring the files of a call's lines; a line whose files are missing is refused."""
        kept: list[_Sendable] = []
        for line in chunk.lines:
            if line.fields.get("attachments"):
                try:
                    await self.attach(line.fields)
                except ValueError as error:
                    chunk.refused.append(RefusedLine(line=line.number, detail=str(error)))
                    if line.source is not None:
                        chunk.lost.add(line.source)
                    continue
            kept.append(line)
        chunk.lines = kept

    def _link(self, chunk: Chunk) -> None:
        """Say which message each reply is to: a line of this call, or a message that is here already. A file whose
        messages have no numbers speaks of the numbers here."""
        kept: list[_Sendable] = []
        places: dict[int, int] = {}
        for line in chunk.lines:
            if line.reply_to is not None and not self._linked(line, line.reply_to, places, chunk):
                continue
            kept.append(line)
            if line.source is not None:
                places[line.source] = len(kept)
        chunk.lines = kept

    def _linked(self, line: _Sendable, reply_to: int, places: Mapping[int, int], chunk: Chunk) -> bool:
        """Say in a line what it replies to; False if that was refused, and the line with it: as the service does where
        both are in one call, so that the same becomes of a line whichever calls they are in."""
        if line.source is None:
            line.fields["reply_to"] = reply_to
        elif reply_to in places:
            line.fields["reply_line"] = places[reply_to]
        elif reply_to in chunk.lost or self._refused.find(reply_to) is not None:
            chunk.refused.append(RefusedLine(line=line.number, detail=_REPLY_REFUSED))
            chunk.lost.add(line.source)
            return False
        elif (here := self._numbers.find(reply_to)) is not None:
            line.fields["reply_to"] = here
        else:
            self._unlinked += 1
        return True

    def take(self, chunk: Chunk, answer: ImportAnswer) -> None:
        """Take in what the service has made of a call."""
        for line, seq in zip(chunk.lines, answer.seqs, strict=True):
            if line.source is not None and seq is not None:
                self._numbers.add(line.source, seq)
        self.reached = max([self.reached, *(seq for seq in answer.seqs if seq is not None)])
        for refused in answer.refused:
            line = chunk.lines[refused.line - 1]
            chunk.refused.append(RefusedLine(line=line.number, detail=refused.detail))
            if line.source is not None:
                chunk.lost.add(line.source)
        self._added += answer.added
        self._repeated += answer.repeated

    def progress(self, chunk: Chunk) -> ImportProgress:
        """How far it is after a call."""
        for source in sorted(chunk.lost):
            self._refused.add(source, source)
        self._lines += chunk.read
        self._bytes += chunk.size
        refused = sorted(chunk.refused, key=lambda one: one.line)
        return ImportProgress(self._lines, self._bytes, self._added, self._repeated, self._unlinked, refused)


def _digest(message: dict[str, Any]) -> bytes:
    content = [message.get(name) for name in _CONTENT]
    return blake2b(orjson.dumps(content), digest_size=16).digest()
