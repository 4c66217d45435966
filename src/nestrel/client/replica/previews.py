"""Small pictures that a replica keeps: fetched when they are first wanted, and gone with their message."""

from __future__ import annotations

from nestrel.client.replica.schema import SHIFT
from nestrel.client.replica.store import ReplicaFile

_MOST = 64 * 1024 * 1024
"""Bytes of all of them together; beyond that, those that came first go."""


class Previews:
    """The previews in a replica's file."""

    def __init__(self, file: ReplicaFile) -> None:
        self._file = file

    def get(self, conversation_id: str, seq: int, attachment_id: str, width: int) -> bytes | None:
        """One that is held."""
        with self._file.read() as connection:
            row = connection.execute(
                "SELECT content FROM previews WHERE n = (SELECT (place << ?) + ? FROM conversations WHERE id = ?) "
                "AND attachment_id = ? AND width = ?",
                (SHIFT, seq, conversation_id, attachment_id, width),
            ).fetchone()
        return row[0] if row else None

    def put(self, conversation_id: str, seq: int, attachment_id: str, width: int, content: bytes) -> None:
        """Hold one, if its message is held and still has the attachment."""
        with self._file.write() as connection:
            connection.execute(
                "INSERT OR REPLACE INTO previews (n, attachment_id, width, content) "
                "SELECT n, ?, ?, ? FROM messages WHERE n = (SELECT (place << ?) + ? FROM conversations WHERE id = ?) "
                "AND ? IN (SELECT json_extract(value, '$.attachment_id') FROM json_each(object, '$.attachments'))",
                (attachment_id, width, content, SHIFT, seq, conversation_id, attachment_id),
            )
            connection.execute(
                "DELETE FROM previews WHERE rowid IN (SELECT rowid FROM (SELECT rowid, sum(length(content)) "
                "OVER (ORDER BY rowid DESC) AS size FROM previews) WHERE size > ?)",
                (_MOST,),
            )
