"""The SQLite file of a replica."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path

from nestrel.core.problems import NestrelError

VERSION = 3
_WITHOUT_FILES = 2
"""The version before, which is brought to date: what waits in its outbox is not lost."""
SHIFT = 40
"""A message's row number is its conversation's place, shifted, and its `seq`: one tree holds them in order."""

_TABLES = """
CREATE TABLE meta (key TEXT PRIMARY KEY, value TEXT) WITHOUT ROWID;
CREATE TABLE conversations (
    place INTEGER PRIMARY KEY, id TEXT NOT NULL UNIQUE, object TEXT, rev INTEGER NOT NULL DEFAULT 0,
    head INTEGER NOT NULL DEFAULT 0, floor INTEGER NOT NULL DEFAULT 1, cursor TEXT,
    epoch INTEGER NOT NULL DEFAULT 0, named INTEGER NOT NULL DEFAULT 1, touched INTEGER NOT NULL DEFAULT 0
);
CREATE TABLE messages (
    n INTEGER PRIMARY KEY, rev INTEGER NOT NULL, author_id TEXT NOT NULL, removed INTEGER NOT NULL, object TEXT NOT NULL
);
CREATE VIRTUAL TABLE words USING fts5 (body, tokenize = "unicode61 remove_diacritics 2", detail = full);
CREATE TABLE members (
    place INTEGER NOT NULL, user_id TEXT NOT NULL, rev INTEGER NOT NULL, present INTEGER NOT NULL,
    read_seq INTEGER NOT NULL, object TEXT NOT NULL, PRIMARY KEY (place, user_id)
) WITHOUT ROWID;
CREATE TABLE profiles (user_id TEXT PRIMARY KEY, rev INTEGER NOT NULL, object TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE dropped (id TEXT PRIMARY KEY, at INTEGER NOT NULL) WITHOUT ROWID;
CREATE TABLE outbox (
    n INTEGER PRIMARY KEY AUTOINCREMENT, conversation_id TEXT NOT NULL, kind TEXT NOT NULL, key TEXT NOT NULL UNIQUE,
    content TEXT NOT NULL, at TEXT NOT NULL, seq INTEGER, about TEXT, problem TEXT
);
"""
_FILES = """
CREATE TABLE enclosed (
    id INTEGER PRIMARY KEY, entry INTEGER NOT NULL, name TEXT NOT NULL, size INTEGER NOT NULL, attachment TEXT,
    content BLOB NOT NULL
);
CREATE INDEX enclosed_entry ON enclosed (entry, id);
CREATE TABLE previews (
    attachment_id TEXT NOT NULL, width INTEGER NOT NULL, n INTEGER NOT NULL, content BLOB NOT NULL,
    PRIMARY KEY (n, attachment_id, width)
);
"""


class NotAReplica(NestrelError):
    """The file is something else, or of another member or service."""


def opened(path: str | Path) -> sqlite3.Connection:
    """Open a replica's file, or make it.

    Raises:
        NotAReplica: it is not one, or of a version that this library does not read.
    """
    try:
        if str(path) != ":memory:":
            # What people wrote to each other is nobody else's to read; SQLite's side files are made like this one.
            os.close(os.open(path, os.O_RDWR | os.O_CREAT, 0o600))
        connection = sqlite3.connect(path, isolation_level=None, check_same_thread=False)
        connection.execute("PRAGMA journal_mode = WAL")
        # A replica that loses its last moments with the power still has the cursor that goes with it; what the outbox
        # takes is written through.
        connection.execute("PRAGMA synchronous = NORMAL")
        [(version,)] = connection.execute("PRAGMA user_version")
        if version == 0:
            if connection.execute("SELECT count(*) FROM sqlite_master").fetchone()[0]:
                raise NotAReplica(f"{path} is a database of something else; name another file")
            connection.executescript(f"BEGIN; {_TABLES} {_FILES} PRAGMA user_version = {VERSION}; COMMIT;")
        elif version == _WITHOUT_FILES:
            connection.executescript(f"BEGIN IMMEDIATE; {_FILES} PRAGMA user_version = {VERSION}; COMMIT;")
        elif version != VERSION:
            raise NotAReplica(f"{path} is of version {version}, and this library reads {VERSION}; name another file")
    except (sqlite3.DatabaseError, OSError) as error:
        raise NotAReplica(f"{path} cannot be opened as a replica: {error}") from None
    return connection
