"""Words of any script, as they are looked for: where each stands in a text, and what makes two of them the same.

Boundaries are those of Unicode Standard Annex #29; in scripts that put no space between words each character is a word.
Two words are the same when they are so by full case folding, compatibility forms and without nonspacing accents.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from functools import lru_cache
from itertools import pairwise
from typing import NamedTuple

import regex

# The same boundaries for the most common texts, at a tenth of the time; a test holds the two together.
_ASCII_WORD = re.compile(r"[A-Za-z0-9_]+(?:(?:(?<=[A-Za-z])['.:](?=[A-Za-z])|(?<=[0-9])[',.;](?=[0-9]))[A-Za-z0-9_]+)*")
_PIECE = re.compile(r"\w+")
_ASCII_PIECE = re.compile(r"\w+", re.ASCII)
_BOUNDARY = regex.compile(r"(?w)\b")
_WORD = regex.compile(r"[\p{L}\p{N}]")
_EMOJI = regex.compile(r"[\p{Extended_Pictographic}\p{Regional_Indicator}]")
# Between its words no space stands, and UAX #29 keeps a run of it together.
_KATAKANA = regex.compile(r"\p{Script=Katakana}")
_CLUSTER = regex.compile(r"\X")
# An accent is of no script of its own, or of one whose points may be left out. Vowel signs of India's and Thailand's
# scripts are letters, and so are the voicing marks of Japanese.
_ACCENT = regex.compile(
    r"[[\p{Mn}&&[\p{Script=Inherited}\p{Script=Arabic}\p{Script=Hebrew}\p{Script=Syriac}\p{Script=Cyrillic}\p{Script=Greek}"
    r"\p{Script=Latin}]]--[\u3099\u309A]]",
    regex.V1,
)
# What is not seen, and the colour of a skin, tell no two words apart; a joiner does where it makes one picture of two.
_UNSEEN = regex.compile(r"[\p{Cf}\p{Variation_Selector}]", regex.V1)
_UNSEEN_IN_EMOJI = regex.compile(r"[\p{Variation_Selector}\p{Emoji_Modifier}]", regex.V1)


LAST = "\U0010ffff"
"""Behind every word that begins with what it is put behind."""


class Token(NamedTuple):
    """One word: its code points from `start` to before `end`, and its folded form."""

    start: int
    end: int
    word: str


def tokens(text: str) -> Iterator[Token]:
    """The words of a text, in order; emoji are words, white space and punctuation are none."""
    if text.isascii():
        lowered = text.lower()
        for match in _ASCII_WORD.finditer(text):
            start, end = match.span()
            word = lowered[start:end]
            if word.strip("_"):
                yield Token(start, end, word)
        return
    edges = [match.start() for match in _BOUNDARY.finditer(text)]
    for start, end in pairwise(edges):
        if text[start] in "'\u2019":  # the package binds one to a vowel behind it, which no annex does
            start += 1
        part = text[start:end]
        if _KATAKANA.search(part):
            for cluster in _CLUSTER.finditer(part):
                if word := folded(cluster.group()):
                    yield Token(start + cluster.start(), start + cluster.end(), word)
        elif word := folded(part):
            yield Token(start, end, word)


def words(text: str) -> list[str]:
    """The folded words of a text, each once, in the order in which they first stand."""
    if text.isascii():
        return [word for word in dict.fromkeys(_ASCII_WORD.findall(text.lower())) if word.strip("_")]
    return list(dict.fromkeys(token.word for token in tokens(text)))


def pieces(text: str) -> set[str]:
    """What an index has of a text: whoever looks for a word looks for the pieces of it, and then at the text. Runs of
    letters, digits and low lines, at a quarter of the time that words take."""
    if text.isascii():
        return set(_ASCII_PIECE.findall(text.lower()))
    return {piece for word in words(text) for piece in pieces_of(word)}


@lru_cache(maxsize=10_000)
def pieces_of(word: str) -> tuple[str, ...]:
    """The pieces of a folded word, in order; of one that has none, as an emoji, the word itself."""
    return tuple(_PIECE.findall(word)) or (word,)


@lru_cache(maxsize=10_000)
def folded(part: str) -> str:
    """What makes two words the same; empty for what is no word."""
    if part.isascii():
        return part.lower() if _WORD.search(part) else ""
    if _EMOJI.search(part):
        return unicodedata.normalize("NFC", _UNSEEN_IN_EMOJI.sub("", part))
    if not _WORD.search(part):
        return ""
    spread = unicodedata.normalize("NFKD", unicodedata.normalize("NFKD", part).casefold()).replace("\u2019", "'")
    return unicodedata.normalize("NFC", _UNSEEN.sub("", _ACCENT.sub("", spread)))
