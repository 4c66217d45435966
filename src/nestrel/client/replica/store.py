"""The replica in its file: taking in change sets. What is read from it is in `nestrel.client.replica.reading`."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import orjson

from nestrel.client.replica.schema import SHIFT, NotAReplica, opened

Wire = Mapping[str, Any]

_COVERED_SECONDS = 60
"""After so long a checkpoint covers what was taken in before it: the snapshot that it speaks for is older than it."""


@dataclass(slots=True)
class Resynced:
    """What a catch-up brought: conversations that moved (with those joined and gone), rows of messages and members,
    bytes of the answers, and how many of these there were; `seconds` is the whole time."""

    conversations: int = 0
    joined: int = 0
    gone: int = 0
    rows: int = 0
    bytes: int = 0
    requests: int = 0
    seconds: float = 0.0


class ReplicaFile:
    """The tables of one replica. Every method that writes is one transaction: with the rows goes the cursor, so that
    a process that is killed has a whole state. Any thread may call; one at a time is served."""

    def __init__(self, path: str | Path) -> None:
        self.path = path
        self.version = 0
        """Grows with every change, for whoever shows what is held."""
        self._connection = opened(path)
        self._lock = threading.RLock()

    def close(self) -> None:
        with self._lock:
            self._connection.close()

    @contextmanager
    def read(self) -> Iterator[sqlite3.Connection]:
        with self._lock:
            yield self._connection

    @contextmanager
    def write(self, *, durable: bool = False) -> Iterator[sqlite3.Connection]:
        """A transaction; a `durable` one survives the power as well as the process."""
        with self._lock:
            if durable:
                self._connection.execute("PRAGMA synchronous = FULL")
            self._connection.execute("BEGIN IMMEDIATE")
            try:
                yield self._connection
                self._connection.execute("COMMIT")
            except BaseException:
                self._connection.execute("ROLLBACK")
                raise
            finally:
                if durable:
                    self._connection.execute("PRAGMA synchronous = NORMAL")
            self.version += 1

    # What it is

    def meta(self, key: str) -> str | None:
        with self.read() as connection:
            row = connection.execute("SELECT value FROM meta WHERE key = ?", (key,)).fetchone()
        return row[0] if row else None

    @property
    def cursor(self) -> str | None:
        """The all cursor: everything up to it is held."""
        return self.meta("cursor")

    @property
    def user_id(self) -> str | None:
        """Whose replica it is; None before it was first brought to date."""
        return self.meta("user_id")

    def claim(self, service: str, user_id: str) -> None:
        """Make sure that it is the replica of this member of this service.

        Raises:
            NotAReplica: it is another's.
        """
        with self.write() as connection:
            for key, value in (("service", service), ("user_id", user_id)):
                held = self.meta(key)
                if held is None:
                    _put(connection, key, value)
                elif held != value:
                    raise NotAReplica(f"{self.path} holds the replica of {held}, not of {value}; name another file")

    # Taking in

    def apply_answer(self, answer: Wire) -> tuple[int, int]:
        """Take in an answer of `POST /resync`; returns how many conversations and rows it brought."""
        with self.write() as connection:
            from_nothing = answer["reset"]
            if from_nothing and (answer["begins"] or self.meta("whole") is None):
                connection.execute("UPDATE conversations SET named = 0")
                connection.execute("UPDATE profiles SET rev = 0")  # of another history they may be newer than any now
                _put(connection, "whole", "1")
            elif not from_nothing:
                self._end_from_nothing(connection)
            for id_ in answer["gone"]:
                _drop(connection, id_)
            rows = sum(_apply(connection, item) for item in answer["items"])
            if from_nothing:
                marks = ",".join("?" * len(answer["joined"]))
                connection.execute(f"UPDATE conversations SET named = 1 WHERE id IN ({marks})", answer["joined"])
                if not answer["more"]:
                    self._end_from_nothing(connection)
            _put(connection, "cursor", answer["cursor"])
        return len(answer["items"]) + len(answer["gone"]), rows

    def _end_from_nothing(self, connection: sqlite3.Connection) -> None:
        """The end of a sync from nothing: what it did not name is not the member's any more."""
        if self.meta("whole") is not None:
            for (id_,) in connection.execute("SELECT id FROM conversations WHERE NOT named").fetchall():
                _drop(connection, id_)
            connection.execute("DELETE FROM meta WHERE key = 'whole'")

    def apply(self, changes: Wire) -> None:
        """Take in one change set; again, it changes nothing."""
        with self.write() as connection:
            _apply(connection, changes)

    def drop(self, conversation_id: str) -> None:
        """Keep nothing of a conversation that is the member's no more."""
        with self.write() as connection:
            _drop(connection, conversation_id)

    def checkpoint(self, cursor: str) -> None:
        """Everything up to this all cursor has been taken in."""
        with self.write() as connection:
            _put(connection, "cursor", cursor)
            covered = (time.time() - _COVERED_SECONDS,)
            connection.execute("UPDATE conversations SET touched = 0 WHERE touched BETWEEN 1 AND ?", covered)
            connection.execute("DELETE FROM dropped WHERE at <= ?", covered)

    def rewind(self) -> list[str]:
        """The store was restored or failed over. What was taken in after the cursor may be lost, an end of membership
        too: the conversations of which anything was are to be fetched anew."""
        with self.write() as connection:
            connection.execute("UPDATE profiles SET rev = 0")
            found = connection.execute(
                "SELECT id FROM conversations WHERE touched > 0 UNION SELECT id FROM dropped ORDER BY id"
            ).fetchall()
        return [row[0] for row in found]

    def epoch(self, conversation_id: str) -> int:
        """A number that grows when the copy of a conversation begins anew: a page asked for before is of no use."""
        with self.read() as connection:
            row = connection.execute("SELECT epoch FROM conversations WHERE id = ?", (conversation_id,)).fetchone()
        return row[0] if row else -1

    def add(self, conversation_id: str, page: Wire, epoch: int) -> bool:
        """Take in a page of history that was asked for at `epoch`; False, and nothing, if the copy is another now."""
        with self.write() as connection:
            row = connection.execute(
                "SELECT place, epoch FROM conversations WHERE id = ?", (conversation_id,)
            ).fetchone()
            if row is None or row[1] != epoch:
                return False
            _messages(connection, row[0], page["items"])
            _profiles(connection, page["profiles"].values())
            _bound(connection, row[0], page["head"], page["floor"])
            _touch(connection, row[0])
        return True

    def put(self, message: Wire) -> None:
        """Take in one message, as the answer to a command."""
        with self.write() as connection:
            put_message(connection, message)


def put_message(connection: sqlite3.Connection, message: Wire) -> None:
    """The same within a transaction."""
    row = connection.execute(
        "SELECT place, floor FROM conversations WHERE id = ?", (message["conversation_id"],)
    ).fetchone()
    if row is not None:
        _messages(connection, row[0], [message])
        _bound(connection, row[0], message["seq"], row[1])
        _touch(connection, row[0])


def _touch(connection: sqlite3.Connection, place: int) -> None:
    """Something was taken in that the cursor may not cover."""
    connection.execute("UPDATE conversations SET touched = ? WHERE place = ?", (int(time.time()), place))


def _put(connection: sqlite3.Connection, key: str, value: str) -> None:
    connection.execute("INSERT OR REPLACE INTO meta VALUES (?, ?)", (key, value))


def text(value: Any) -> str:
    return orjson.dumps(value).decode()


def _apply(connection: sqlite3.Connection, changes: Wire) -> int:
    id_ = changes["conversation_id"]
    connection.execute("INSERT OR IGNORE INTO conversations (id) VALUES (?)", (id_,))
    place, rev = connection.execute("SELECT place, rev FROM conversations WHERE id = ?", (id_,)).fetchone()
    if changes["reset"]:
        _clear(connection, place)
        connection.execute("UPDATE conversations SET epoch = epoch + 1 WHERE place = ?", (place,))
    own = changes["conversation"]
    if own is not None and (changes["reset"] or own["rev"] >= rev):
        values = (text(own), own["rev"], place)
        connection.execute("UPDATE conversations SET object = ?, rev = ? WHERE place = ?", values)
    _messages(connection, place, changes["messages"])
    connection.executemany(
        "INSERT INTO members VALUES (?, ?, ?, ?, ?, ?) ON CONFLICT (place, user_id) DO UPDATE SET rev = excluded.rev, "
        "present = excluded.present, read_seq = excluded.read_seq, object = excluded.object "
        "WHERE excluded.rev >= members.rev",
        [
            (place, one["user_id"], one["rev"], one["left_at"] is None, one["read_seq"], text(one))
            for one in changes["members"]
        ],
    )
    _profiles(connection, changes["profiles"].values())
    _bound(connection, place, changes["head"], changes["floor"])
    connection.execute("UPDATE conversations SET cursor = ? WHERE place = ?", (changes["cursor"], place))
    _touch(connection, place)  # what a resync brings was read after its cursor, too
    return len(changes["messages"]) + len(changes["members"])


def _messages(connection: sqlite3.Connection, place: int, messages: Sequence[Wire]) -> None:
    """Each row that is kept still, and not older than the one held."""
    base = place << SHIFT
    [(floor,)] = connection.execute("SELECT floor FROM conversations WHERE place = ?", (place,))
    messages = [one for one in messages if one["seq"] >= floor]
    held = dict(
        connection.execute(
            "SELECT n, rev FROM messages WHERE n IN (SELECT value + ? FROM json_each(?))",
            (base, text([one["seq"] for one in messages])),
        )
    )
    fresh = [(base + one["seq"], one) for one in messages if held.get(base + one["seq"], 0) <= one["rev"]]
    connection.executemany(
        "INSERT OR REPLACE INTO messages VALUES (?, ?, ?, ?, ?)",
        [(n, one["rev"], one["author_id"], one["removed_at"] is not None, text(one)) for n, one in fresh],
    )
    again = [(n,) for n, _ in fresh if n in held]
    if again:
        connection.executemany(
            "DELETE FROM previews WHERE n = ? AND attachment_id NOT IN (SELECT value FROM json_each(?))",
            [(n, text([one["attachment_id"] for one in message["attachments"]])) for n, message in fresh if n in held],
        )
        connection.executemany("DELETE FROM words WHERE rowid = ?", again)
    connection.executemany(
        "INSERT INTO words (rowid, body) VALUES (?, ?)", [(n, one["body"]) for n, one in fresh if one["body"]]
    )


def _profiles(connection: sqlite3.Connection, profiles: Iterable[Wire]) -> None:
    connection.executemany(
        "INSERT INTO profiles VALUES (?, ?, ?) ON CONFLICT (user_id) DO UPDATE SET rev = excluded.rev, "
        "object = excluded.object WHERE excluded.rev >= profiles.rev",
        [(one["user_id"], one["rev"], text(one)) for one in profiles],
    )


def _bound(connection: sqlite3.Connection, place: int, head: int, floor: int) -> None:
    """Move head and floor, and drop what lies below."""
    [(before,)] = connection.execute("SELECT floor FROM conversations WHERE place = ?", (place,))
    connection.execute(
        "UPDATE conversations SET head = max(head, ?), floor = max(floor, ?) WHERE place = ?", (head, floor, place)
    )
    if floor > before:
        _delete(connection, place << SHIFT, (place << SHIFT) + floor)


def _delete(connection: sqlite3.Connection, low: int, high: int) -> None:
    connection.execute("DELETE FROM previews WHERE n >= ? AND n < ?", (low, high))
    connection.execute("DELETE FROM words WHERE rowid IN (SELECT n FROM messages WHERE n >= ? AND n < ?)", (low, high))
    connection.execute("DELETE FROM messages WHERE n >= ? AND n < ?", (low, high))


def _clear(connection: sqlite3.Connection, place: int) -> None:
    _delete(connection, place << SHIFT, (place + 1) << SHIFT)
    connection.execute("DELETE FROM members WHERE place = ?", (place,))
    # A store that was set back to an earlier state may have fewer messages than this copy had.
    connection.execute("UPDATE conversations SET head = 0, floor = 1, rev = 0 WHERE place = ?", (place,))


def _drop(connection: sqlite3.Connection, id_: str) -> None:
    row = connection.execute("SELECT place FROM conversations WHERE id = ?", (id_,)).fetchone()
    if row is not None:
        _clear(connection, row[0])
        connection.execute("DELETE FROM conversations WHERE place = ?", (row[0],))
        connection.execute("INSERT OR REPLACE INTO dropped VALUES (?, ?)", (id_, int(time.time())))
