"""What is held in a replica, as the objects of the wire; no network is needed for any of it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import orjson

from nestrel.client.replica.schema import SHIFT
from nestrel.client.replica.store import ReplicaFile
from nestrel.core.objects import Conversation, Member, Message, Profile
from nestrel.core.problems import NotFound

_LISTED = "SELECT place, id, object, head, floor FROM conversations WHERE object IS NOT NULL"


class Reading:
    """Questions to a replica."""

    def __init__(self, file: ReplicaFile) -> None:
        self._file = file

    def conversations(self) -> list[Conversation]:
        """All that are held, newest activity first, each as the member sees it. `message_count` and `members` are as
        of the conversation's own last change; `unread` is None where not all messages above the receipt are held."""
        with self._file.read() as connection:
            found = [self._conversation(*row) for row in connection.execute(_LISTED).fetchall()]
        return sorted(found, key=lambda one: one.last_message.created_at if one.last_message else one.created_at)[::-1]

    def conversation(self, id_or_name: str) -> Conversation:
        """One of them. Raises `NotFound`."""
        with self._file.read() as connection:
            row = connection.execute(f"{_LISTED} AND id = ?", (id_or_name,)).fetchone()
            if row is None:
                name = "json_extract(object, '$.name')"
                row = connection.execute(f"{_LISTED} AND lower({name}) = lower(?)", (id_or_name,)).fetchone()
            if row is None:
                raise NotFound(f"the replica holds no conversation {id_or_name!r}")
            return self._conversation(*row)

    def _conversation(self, place: int, id_: str, packed: str, head: int, floor: int) -> Conversation:
        fields: dict[str, Any] = orjson.loads(packed)
        me = self._file.user_id or ""
        with self._file.read() as connection:
            last = connection.execute("SELECT object FROM messages WHERE n = ?", ((place << SHIFT) + head,)).fetchone()
            own = connection.execute(
                "SELECT object FROM members WHERE place = ? AND user_id = ? AND present", (place, me)
            ).fetchone()
            fields |= {"head": head, "floor": floor, "last_message": orjson.loads(last[0]) if last else None}
            if own is not None:
                fields |= {"my_role": orjson.loads(own[0])["role"], "unread": self.unread(id_)}
            if fields["kind"] == "direct":
                other = connection.execute(
                    "SELECT user_id FROM members WHERE place = ? AND user_id <> ?", (place, me)
                ).fetchone()
                fields["partner"] = other[0] if other else None
        return Conversation.model_validate(fields)

    def _place(self, conversation_id: str) -> tuple[int, int, int]:
        with self._file.read() as connection:
            row = connection.execute(
                "SELECT place, head, floor FROM conversations WHERE id = ?", (conversation_id,)
            ).fetchone()
        if row is None:
            raise NotFound(f"the replica holds no conversation {conversation_id!r}")
        return row[0], row[1], row[2]

    def messages(
        self, conversation_id: str, *, before: int | None = None, after: int = 0, limit: int = 50
    ) -> list[Message]:
        """Messages held, by `seq`: the `limit` newest below `before` and above `after`. Look at `holes` for what lies
        between them and is not held."""
        place, head, _ = self._place(conversation_id)
        low, high = (place << SHIFT) + after, (place << SHIFT) + (head + 1 if before is None else before)
        with self._file.read() as connection:
            found = connection.execute(
                "SELECT object FROM messages WHERE n > ? AND n < ? ORDER BY n DESC LIMIT ?", (low, high, limit)
            ).fetchall()
        return [Message.model_validate_json(row[0]) for row in reversed(found)]

    def message(self, conversation_id: str, seq: int) -> Message | None:
        """One message, if it is held."""
        found = self.messages(conversation_id, before=seq + 1, after=seq - 1)
        return found[0] if found else None

    def holes(self, conversation_id: str) -> list[tuple[int, int]]:
        """The runs of numbers from floor to head that are not held, each from its first to its last."""
        place, head, floor = self._place(conversation_id)
        base = place << SHIFT
        with self._file.read() as connection:
            inner = connection.execute(
                "SELECT n - ?, following - ? FROM (SELECT n, lead(n) OVER (ORDER BY n) AS following FROM messages "
                "WHERE n >= ? AND n <= ?) WHERE following > n + 1",
                (base, base, base + floor, base + head),
            ).fetchall()
            first, last = connection.execute(
                "SELECT min(n) - ?, max(n) - ? FROM messages WHERE n >= ? AND n <= ?",
                (base, base, base + floor, base + head),
            ).fetchone()
        if first is None:
            return [(floor, head)] if head >= floor else []
        runs = [(floor, first - 1)] if first > floor else []
        runs += [(low + 1, high - 1) for low, high in inner]
        return runs + ([(last + 1, head)] if last < head else [])

    def members(self, conversation_id: str) -> list[Member]:
        """Those who are members now, by user id."""
        place, _, _ = self._place(conversation_id)
        with self._file.read() as connection:
            found = connection.execute(
                "SELECT object FROM members WHERE place = ? AND present ORDER BY user_id", (place,)
            ).fetchall()
        return [Member.model_validate_json(row[0]) for row in found]

    def unread(self, conversation_id: str) -> int | None:
        """Messages of others above the member's receipt that are not removed; None if not all of them are held."""
        place, head, floor = self._place(conversation_id)
        me = self._file.user_id or ""
        with self._file.read() as connection:
            row = connection.execute(
                "SELECT read_seq FROM members WHERE place = ? AND user_id = ? AND present", (place, me)
            ).fetchone()
            if row is None:
                return None
            base = max(row[0], floor - 1)
            count, unread = connection.execute(
                "SELECT count(*), count(*) FILTER (WHERE author_id <> ? AND NOT removed) FROM messages "
                "WHERE n > ? AND n <= ?",
                (me, (place << SHIFT) + base, (place << SHIFT) + head),
            ).fetchone()
        return unread if count == max(0, head - base) else None

    def profiles(self, user_ids: Iterable[str]) -> dict[str, Profile]:
        """The profiles held of these users."""
        wanted = orjson.dumps(sorted(set(user_ids))).decode()
        with self._file.read() as connection:
            found = connection.execute(
                "SELECT object FROM profiles WHERE user_id IN (SELECT value FROM json_each(?))", (wanted,)
            ).fetchall()
        profiles = [Profile.model_validate_json(row[0]) for row in found]
        return {profile.user_id: profile for profile in profiles}

    def counts(self) -> tuple[int, int]:
        """How many conversations and messages are held."""
        with self._file.read() as connection:
            conversations, messages = connection.execute(
                "SELECT (SELECT count(*) FROM conversations), (SELECT count(*) FROM messages)"
            ).fetchone()
        return conversations, messages

    def search(self, words: str, conversation_id: str | None = None, *, limit: int = 50) -> list[Message]:
        """Messages held that contain all the words, in any form of letters and accents, newest first; the last word
        may be a beginning."""
        terms = [f'"{word}"' for word in words.replace('"', " ").split()]
        if not terms:
            return []
        low, high = 0, 2**63 - 1
        if conversation_id is not None:
            place, _, _ = self._place(conversation_id)
            low, high = place << SHIFT, (place + 1) << SHIFT
        with self._file.read() as connection:
            found = connection.execute(
                "SELECT m.object FROM words w JOIN messages m ON m.n = w.rowid "
                "WHERE words MATCH ? AND w.rowid > ? AND w.rowid < ? "
                "ORDER BY json_extract(m.object, '$.created_at') DESC, w.rowid DESC LIMIT ?",
                (" ".join(terms) + "*", low, high, limit),
            ).fetchall()
        return [Message.model_validate_json(row[0]) for row in found]
