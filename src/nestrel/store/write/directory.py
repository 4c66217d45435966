"""Keeps the words by which people and conversations are found equal to their names."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from nestrel.core.words import words
from nestrel.store.native import Connection, array, execute, texts

_WORD_BYTES = 256
"""Of a longer word this much is kept: what is looked for is shorter."""

# Whoever has a name already keeps it: the id alone is for those whom nobody has seen.
_DIRECTORY_ENLIST = """
INSERT INTO nestrel.person_words (word, user_id, n)
SELECT * FROM unnest($1::text::text[], $2::text::text[], $3::text::int[]) AS w (word, user_id, n) ORDER BY 1, 2
ON CONFLICT DO NOTHING
"""
_DIRECTORY_NAME = """
INSERT INTO nestrel.person_words (word, user_id, n)
SELECT w.word, $2, w.n - 1 FROM unnest($1::text::text[]) WITH ORDINALITY AS w (word, n) ORDER BY 1
ON CONFLICT (word, user_id) DO UPDATE SET n = excluded.n WHERE person_words.n <> excluded.n
"""
_STRIKE = "DELETE FROM nestrel.person_words WHERE user_id = $1 AND word <> ALL($2::text::text[])"
_LIST = """
INSERT INTO nestrel.conversation_words (word, conversation_id, n)
SELECT w.word, $2, w.n - 1 FROM unnest($1::text::text[]) WITH ORDINALITY AS w (word, n) ON CONFLICT DO NOTHING
"""
_UNLIST = "DELETE FROM nestrel.conversation_words WHERE conversation_id = $2 AND word <> ALL($1::text::text[])"


def _words(*names: str | None) -> list[str]:
    called = " ".join(name for name in names if name)
    found = words(called) or [called.lower()]  # whoever is called by signs alone is in the whole directory
    return [word.encode()[:_WORD_BYTES].decode(errors="ignore") for word in found]


async def enlist(connection: Connection, user_ids: Iterable[str]) -> None:
    """Let people be found by their ids: those whom nobody has seen yet have no other name."""
    found = [(word, user_id, n) for user_id in user_ids for n, word in enumerate(_words(user_id))]
    if found:
        all_words, users, places = zip(*found, strict=True)
        await execute(connection, _DIRECTORY_ENLIST, texts(all_words), texts(users), array(places))


async def name_person(connection: Connection, user_id: str, display_name: str | None) -> None:
    """Let someone be found by what they are called now, and no longer by what they were called."""
    found = texts(_words(display_name, user_id))
    await execute(connection, _DIRECTORY_NAME, found, user_id)
    await execute(connection, _STRIKE, user_id, found)


async def name_conversation(connection: Connection, conversation_id: UUID, name: str | None, title: str | None) -> None:
    """The same for a conversation; without a name and a title it is not found."""
    found = texts(_words(name, title) if name or title else [])
    await execute(connection, _LIST, found, conversation_id)
    await execute(connection, _UNLIST, found, conversation_id)
