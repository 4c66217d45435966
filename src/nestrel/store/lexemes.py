"""Words as they stand in the search index."""

from __future__ import annotations

from uuid import UUID

BLOCK = 256
"""Messages of a block, which is one document of the index."""

_WORD_BYTES = 255


def lexeme(word: str) -> str:
    """A word as it stands in the index: of a very long one the beginning."""
    return word if len(word) < _WORD_BYTES // 4 else word.encode()[:_WORD_BYTES].decode(errors="ignore")


def place_lexeme(conversation_id: UUID) -> str:
    """What no word can be, as it has a space in it: the name of a conversation among the words of its blocks."""
    return f"in {conversation_id.hex}"
