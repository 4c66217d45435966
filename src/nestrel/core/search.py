"""What a question asks for, and whether a text answers it: words in any order, phrases, beginnings, and what must not
be there."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

from nestrel.core.problems import InvalidRequest, invalid
from nestrel.core.words import Token, tokens

_TERM = re.compile(r'(?P<minus>-)?(?:"(?P<phrase>[^"]*)"?|(?P<bare>[^\s"]+))')
_PREFIX_POINTS = 2


class Term(NamedTuple):
    """Words that stand behind each other; of a `prefix` the last one is the beginning of a word. `unlike` is what must
    not occur. `touching` says of each word whether nothing may stand between it and the one before."""

    words: tuple[str, ...]
    prefix: bool = False
    unlike: bool = False
    touching: tuple[bool, ...] = ()


@dataclass(frozen=True, slots=True)
class Question:
    """A question in its terms, each once: all that are `wanted` must occur, and none that is `unwanted`."""

    wanted: tuple[Term, ...]
    unwanted: tuple[Term, ...]
    literal: tuple[str, ...]
    """Text that a body of ASCII has somewhere if it has the words: a quick look before the thorough one."""

    def marks(self, body: str) -> list[tuple[int, int]] | None:
        """Where what is wanted stands in a body, each occurrence as a half-open range of code points, in order; None
        where the body is no answer."""
        if body.isascii():
            lowered = body.lower()
            if not all(text in lowered for text in self.literal):
                return None
        standing = list(tokens(body))
        found = set[tuple[int, int]]()
        for term in self.wanted:
            ranges = list(_occurrences(term, standing))
            if not ranges:
                return None
            found.update(ranges)
        if any(next(_occurrences(term, standing), None) is not None for term in self.unwanted):
            return None
        return sorted(found)


def _occurrences(term: Term, standing: Sequence[Token]) -> Iterator[tuple[int, int]]:
    words, size, touching = term.words, len(term.words), term.touching
    for at in range(len(standing) - size + 1):
        for n, word in enumerate(words):
            one = standing[at + n].word
            if one != word and not (term.prefix and n == size - 1 and one.startswith(word)):
                break
            if touching and touching[n] and standing[at + n].start != standing[at + n - 1].end:
                break
        else:
            yield standing[at].start, standing[at + size - 1].end


def question(q: str) -> Question:
    """Read what was typed: words; `"a phrase"`; `begin*`; and `-` before any of them.

    In scripts that put no space between words the characters of a run stand behind each other, as in a phrase.

    Raises:
        InvalidRequest: no word must occur, or the beginning of a word has fewer than two characters.
    """
    terms = list(dict.fromkeys(term for found in _TERM.finditer(q) for term in _terms(found)))
    wanted = tuple(term for term in terms if not term.unlike)
    if not wanted:
        raise invalid("/q", "name at least one word that must occur")
    literal = tuple(word for term in wanted for word in term.words if word.isascii())
    return Question(wanted, tuple(term for term in terms if term.unlike), literal)


def _terms(found: re.Match[str]) -> Iterator[Term]:
    unlike, phrase = found["minus"] is not None, found["phrase"]
    if phrase is not None:
        if words := list(tokens(phrase)):
            yield _term(words, False, unlike)
        return
    text = found["bare"]
    prefix = text.endswith("*")
    runs = list(_runs(text))
    for n, run in enumerate(runs):
        begins = prefix and n == len(runs) - 1
        if begins and len(run[-1].word) < _PREFIX_POINTS:
            raise _too_short(run[-1].word)
        yield _term(run, begins, unlike)


def _term(found: Sequence[Token], prefix: bool, unlike: bool) -> Term:
    """What touches in a question touches in what answers it: characters of a run are no words apart."""
    touching = (False, *(one.end == other.start for one, other in pairwise(found)))
    return Term(tuple(one.word for one in found), prefix, unlike, touching if any(touching) else ())


def _too_short(word: str) -> InvalidRequest:
    return invalid("/q", f"{word}* is too short: the beginning of a word has at least {_PREFIX_POINTS} characters")


def _runs(text: str) -> Iterator[list[Token]]:
    """Words that touch each other, as characters do where no space parts them."""
    run, end = list[Token](), -1
    for token in tokens(text):
        if run and token.start != end:
            yield run
            run = []
        run.append(token)
        end = token.end
    if run:
        yield run
