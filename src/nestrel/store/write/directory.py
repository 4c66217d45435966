"""The words by which people and conversations are found, kept with what they are called."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from nestrel.core.words import words
from nestrel.store.native import Connection, execute, texts

_WORD_BYTES = 256
"""Of a longer word this much is kept: what is looked for is shorter."""

_ENLIST = """
INSERT INTO nestrel.person_words (word, user_id)
SELECT * FROM unnest($1::text::text[], $2::text::text[]) AS w (word, user_id) ORDER BY 1, 2 ON CONFLICT DO NOTHING
"""
_STRIKE = "DELETE FROM nestrel.person_words WHERE user_id = $1 AND word <> ALL($2::text::text[])"
_LIST = """
INSERT INTO nestrel.conversation_words (word, conversation_id)
SELECT word, $2 FROM unnest($1::text::text[]) AS w (word) ON CONFLICT DO NOTHING
"""
_UNLIST = "DELETE FROM nestrel.conversation_words WHERE conversation_id = $2 AND word <> ALL($1::text::text[])"


def _words(*names: str | None) -> list[str]:
    found = words(" ".join(name for name in names if name))
    return [word.encode()[:_WORD_BYTES].decode(errors="ignore") for word in found]


async def enlist(connection: Connection, user_ids: Iterable[str]) -> None:
    """Let people be found by their ids: those whom nobody has seen yet have no other name."""
    found = [(word, user_id) for user_id in user_ids for word in _words(user_id)]
    if found:
        await execute(connection, _ENLIST, texts([one[0] for one in found]), texts([one[1] for one in found]))


async def name_person(connection: Connection, user_id: str, display_name: str | None) -> None:
    """Let someone be found by what they are called now, and no longer by what they were called."""
    found = _words(user_id, display_name)
    await execute(connection, _ENLIST, texts(found), texts([user_id] * len(found)))
    await execute(connection, _STRIKE, user_id, texts(found))


async def name_conversation(connection: Connection, conversation_id: UUID, name: str | None, title: str | None) -> None:
    """The same for a conversation; without a name and a title it is not found."""
    found = texts(_words(name, title))
    await execute(connection, _LIST, found, conversation_id)
    await execute(connection, _UNLIST, found, conversation_id)
