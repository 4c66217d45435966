"""From lines of a file to calls, with the service played by a list."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any
from uuid import uuid4

import orjson
from hypothesis import given
from hypothesis import strategies as st

from nestrel.client import importing
from nestrel.client.importing import Importer
from nestrel.core.kept_objects import ImportAnswer, RefusedLine


class Store:
    """Takes calls as the service would: by key, in order, refusing what it is told to."""

    def __init__(self, refuses: Callable[[str], bool] = lambda _body: False) -> None:
        self.messages: list[dict[str, Any]] = []
        self.keys: dict[str, int] = {}
        self._refuses = refuses

    def call(self, content: bytes) -> ImportAnswer:
        seqs: list[int | None] = []
        refused, added = [], 0
        for n, raw in enumerate(content.splitlines(), 1):
            line = orjson.loads(raw)
            reply = line.get("reply_to") or (seqs[line["reply_line"] - 1] if "reply_line" in line else None)
            if line["key"] in self.keys:
                seqs.append(self.keys[line["key"]])
            elif self._refuses(line["body"]) or ("reply_line" in line and reply is None):
                seqs.append(None)
                refused.append(RefusedLine(line=n, detail="no"))
            else:
                self.messages.append({**line, "reply_to": reply})
                self.keys[line["key"]] = len(self.messages)
                seqs.append(len(self.messages))
                added += 1
        return ImportAnswer(added=added, repeated=0, seqs=seqs, refused=refused)


async def bring(store: Store, lines: list[bytes]) -> list[RefusedLine]:
    importer, refused = Importer(), list[RefusedLine]()
    async for chunk in importer.chunks(lines):
        if chunk.lines:
            importer.take(chunk, store.call(chunk.content()))
        refused += importer.progress(chunk).refused
    return refused


def run(store: Store, lines: list[bytes], size: int) -> list[RefusedLine]:
    before, importing.CHUNK_LINES = importing.CHUNK_LINES, size
    try:
        return asyncio.run(bring(store, lines))
    finally:
        importing.CHUNK_LINES = before


@given(
    first=st.integers(1, 50),
    replies=st.lists(st.none() | st.integers(1, 6), max_size=25),
    bad=st.sets(st.integers(0, 24)),
    size=st.integers(1, 7),
)
def test_replies_find_their_messages_whatever_the_numbers_and_the_calls(
    first: int, replies: list[int | None], bad: set[int], size: int
) -> None:
    """An export that begins anywhere, in calls of any size, some lines refused: each reply is to the message that it
    was to, to none where that is not in the file, and refused where that was."""
    lines = [
        {"conversation_id": "c", "seq": first + n, "author_id": "odd", "body": f"b{first + n}",
         "reply_to": first + n - back if back else None}
        for n, back in enumerate(replies)
    ]  # fmt: skip
    packed = [orjson.dumps(line) + b"\n" for line in lines]
    store = Store(lambda body: int(body[1:]) - first in bad)
    refused = {one.line for one in run(store, packed, size)}
    at = {message["body"]: n for n, message in enumerate(store.messages, 1)}
    expected = set[int]()
    for n, back in enumerate(replies):
        if n in bad or (back and n - back in expected):
            expected.add(n)
    assert refused == {n + 1 for n in expected}
    for n, line in enumerate(lines):
        if n not in expected:
            assert store.messages[at[line["body"]] - 1]["reply_to"] == at.get(f"b{line['reply_to']}")
    # Calls of another size find the same keys, and refuse the same lines.
    assert {one.line for one in run(store, packed, size + 1)} == refused
    assert len(store.messages) == len(lines) - len(expected)


def test_equal_lines_of_one_moment_are_kept_apart_and_found_again() -> None:
    line = orjson.dumps({"author_id": "odd", "body": "ready", "created_at": "2026-03-01T08:00:00Z"})
    other = orjson.dumps({"author_id": "odd", "body": "ready"})
    store = Store()
    for _ in range(2):
        run(store, [line, line, other, other, b"\n"], 3)
        assert len(store.messages) == 4


def test_what_cannot_be_sent_is_told_by_its_line() -> None:
    key = uuid4().hex
    good = orjson.dumps({"author_id": "odd", "body": "x", "key": key})
    store = Store()
    refused = run(store, [b"nope", good, b"[]", orjson.dumps({"body": "x", "reply_to": "2"})], 2)
    assert [one.line for one in refused] == [1, 3, 4]
    assert [message["key"] for message in store.messages] == [key]
