"""The outbox in the replica's file: kept in order, sent by `nestrel.client.replica.sync`."""

from __future__ import annotations

import io
import os
import sqlite3
from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from uuid import uuid4

import orjson

from nestrel.client.replica.store import ReplicaFile, put_message, text
from nestrel.core.outbox import Enclosed, Entry, Kind, rebased
from nestrel.core.times import format_time, parse_time

_COLUMNS = "n, conversation_id, kind, key, content, at, seq, about, problem"


_CHUNK = 1024 * 1024

File = tuple[str, Path | bytes]
"""A file that goes with a post: its name, and where it is or what is in it."""


class Outbox:
    """Commands that the service has not acknowledged; each is durable when the method that takes it returns."""

    def __init__(self, file: ReplicaFile) -> None:
        self._file = file

    def put(
        self,
        kind: Kind,
        conversation_id: str,
        content: Mapping[str, Any],
        *,
        key: str | None = None,
        seq: int | None = None,
        about: str | None = None,
        files: Sequence[File] = (),
    ) -> Entry:
        """Take a command, with the files that go with it. A receipt takes the place of one that waits.

        Raises:
            OSError: a file cannot be read; nothing was taken.
        """
        key, at = key or str(uuid4()), datetime.now(UTC)
        with self._file.write(durable=True) as connection:
            if kind == "read":
                connection.execute(
                    "DELETE FROM outbox WHERE kind = 'read' AND conversation_id = ? AND problem IS NULL",
                    (conversation_id,),
                )
            n = connection.execute(
                "INSERT INTO outbox (conversation_id, kind, key, content, at, seq, about) VALUES (?, ?, ?, ?, ?, ?, ?)",
                (conversation_id, kind, key, text(content), format_time(at), seq, about),
            ).lastrowid
            assert n is not None
            enclosed = [_enclose(connection, n, file) for file in files]
        return Entry(n, conversation_id, kind, key, content, at, seq, about, files=enclosed)

    def entries(self, conversation_id: str | None = None) -> list[Entry]:
        """All of them, or those of one conversation, in their order; those refused too."""
        where, values = ("WHERE conversation_id = ?", (conversation_id,)) if conversation_id else ("", ())
        with self._file.read() as connection:
            found = connection.execute(f"SELECT {_COLUMNS} FROM outbox {where} ORDER BY n", values).fetchall()
            return [_with_files(connection, _entry(*row)) for row in found]

    def next(self) -> Entry | None:
        """The first that waits."""
        with self._file.read() as connection:
            row = connection.execute(
                f"SELECT {_COLUMNS} FROM outbox WHERE problem IS NULL ORDER BY n LIMIT 1"
            ).fetchone()
            return _with_files(connection, _entry(*row)) if row else None

    def unsent(self, entry: Entry) -> tuple[int, str, int] | None:
        """The first of its files that has not been uploaded: its number, name and size."""
        with self._file.read() as connection:
            row: tuple[int, str, int] | None = connection.execute(
                "SELECT id, name, size FROM enclosed WHERE entry = ? AND attachment IS NULL ORDER BY id LIMIT 1",
                (entry.n,),
            ).fetchone()
        return row

    def part(self, file: int, start: int, size: int) -> bytes:
        """Some of a file's bytes; fewer at its end, none where it has gone."""
        with self._file.read() as connection:
            try:
                with connection.blobopen("enclosed", "content", file, readonly=True) as blob:
                    blob.seek(start)
                    return blob.read(size)
            except sqlite3.OperationalError:
                return b""

    def uploaded(self, file: int, attachment_id: str) -> None:
        """A file has become an attachment."""
        with self._file.write(durable=True) as connection:
            connection.execute("UPDATE enclosed SET attachment = ? WHERE id = ?", (attachment_id, file))

    def upload_again(self, entry: Entry) -> None:
        """What was uploaded for a post is not there any more."""
        with self._file.write(durable=True) as connection:
            connection.execute("UPDATE enclosed SET attachment = NULL WHERE entry = ?", (entry.n,))

    def done(self, entry: Entry, message: Mapping[str, Any] | None) -> None:
        """The service has carried it out. In one transaction it goes and the message that it made comes, so that
        nobody sees both or neither; what is about that message learns its number."""
        with self._file.write(durable=True) as connection:
            if message is not None:
                put_message(connection, message)
                connection.execute("UPDATE outbox SET seq = ? WHERE about = ?", (message["seq"], entry.key))
                _rebase(connection, entry, message)
            connection.execute("DELETE FROM outbox WHERE n = ?", (entry.n,))
            connection.execute("DELETE FROM enclosed WHERE entry = ?", (entry.n,))

    def refused(self, entry: Entry, problem: Mapping[str, Any]) -> None:
        """Keep it with its reason; so are the commands about a post that was refused."""
        with self._file.write(durable=True) as connection:
            connection.execute("UPDATE outbox SET problem = ? WHERE n = ?", (text(problem), entry.n))
            behind = {**problem, "detail": f"the post that this is about was refused: {problem.get('detail', '')}"}
            connection.execute(
                "UPDATE outbox SET problem = ? WHERE about = ? AND seq IS NULL", (text(behind), entry.key)
            )

    def retry(self, n: int) -> None:
        """Let a refused command wait again, with the key that it had."""
        with self._file.write(durable=True) as connection:
            connection.execute("UPDATE outbox SET problem = NULL WHERE n = ?", (n,))

    def discard(self, n: int) -> None:
        """Give a command up, with those about its post; one that is under way may still be carried out."""
        with self._file.write(durable=True) as connection:
            connection.execute(
                "DELETE FROM outbox WHERE n = ? OR (seq IS NULL AND about = (SELECT key FROM outbox WHERE n = ?))",
                (n, n),
            )
            connection.execute("DELETE FROM enclosed WHERE entry NOT IN (SELECT n FROM outbox)")


def _enclose(connection: sqlite3.Connection, entry: int, file: File) -> Enclosed:
    """Copy a file into the replica, so that it may go or change before it is sent."""
    name, source = file
    with io.BytesIO(source) if isinstance(source, bytes) else source.open("rb") as stream:
        size = stream.seek(0, os.SEEK_END)
        stream.seek(0)
        row = connection.execute(
            "INSERT INTO enclosed (entry, name, size, content) VALUES (?, ?, ?, zeroblob(?))", (entry, name, size, size)
        ).lastrowid
        assert row is not None
        left = size
        with connection.blobopen("enclosed", "content", row) as blob:
            while left > 0 and (chunk := stream.read(min(_CHUNK, left))):
                blob.write(chunk)
                left -= len(chunk)
        if left or stream.read(1):
            raise OSError(f"{name} has changed while it was read")
    return Enclosed(name, size)


def _with_files(connection: sqlite3.Connection, entry: Entry) -> Entry:
    if entry.kind != "post":
        return entry
    found = connection.execute(
        "SELECT name, size, attachment FROM enclosed WHERE entry = ? ORDER BY id", (entry.n,)
    ).fetchall()
    return replace(entry, files=[Enclosed(*row) for row in found]) if found else entry


def _rebase(connection: sqlite3.Connection, entry: Entry, message: Mapping[str, Any]) -> None:
    """What was written on top of an edit of one's own goes by the answer to that."""
    found = connection.execute(f"SELECT {_COLUMNS} FROM outbox WHERE n > ? ORDER BY n", (entry.n,)).fetchall()
    for later in rebased(entry, message, [_entry(*row) for row in found]):
        connection.execute("UPDATE outbox SET content = ? WHERE n = ?", (text(later.content), later.n))


def _entry(
    n: int,
    conversation_id: str,
    kind: Kind,
    key: str,
    content: str,
    at: str,
    seq: int | None,
    about: str | None,
    problem: str | None,
) -> Entry:
    refusal = orjson.loads(problem) if problem else None
    return Entry(n, conversation_id, kind, key, orjson.loads(content), parse_time(at), seq, about, refusal)
