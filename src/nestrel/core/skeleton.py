"""Which names look alike: the skeletons of Unicode's security mechanisms (UTS #39, 4)."""

from __future__ import annotations

import unicodedata
from collections import defaultdict
from collections.abc import Iterable, Mapping
from string import ascii_uppercase

_MARK = "\u200e"
"""What the table puts around texts that run from right to left."""
_IGNORED = {
    *map(chr, (0x00AD, 0x034F, 0x061C, 0x115F, 0x1160, 0x17B4, 0x17B5, 0x3164, 0xFEFF, 0xFFA0)),
    *map(chr, range(0x180B, 0x1810)), *map(chr, range(0x200B, 0x2010)), *map(chr, range(0x202A, 0x202F)),
    *map(chr, range(0x2060, 0x2070)), *map(chr, range(0xFE00, 0xFE10)), *map(chr, range(0xFFF0, 0xFFFC)),
    *map(chr, range(0x1BCA0, 0x1BCA4)), *map(chr, range(0x1D173, 0x1D17B)), *map(chr, range(0xE0000, 0xE1000)),
}  # fmt: skip
"""Code points that are not drawn (Default_Ignorable_Code_Point), bidirectional and interlinear controls among them."""
_BLANK = str.maketrans(dict.fromkeys("\u2800", " "))
"""What is drawn as nothing, and is no white space by its properties."""


class Skeletons:
    """Made from pairs of texts that can be taken for one another. Texts of one class have one prototype: that which is
    like most of the others, as the table pairs each text with its prototype alone; of two, the one of several
    characters, as what looks like `m` is `rn`, or else the least."""

    def __init__(self, alike: Mapping[str, Iterable[str]]) -> None:
        classes = _Classes()
        for text, others in alike.items():
            for other in others:
                classes.join(_nfd(text.strip(_MARK)), _nfd(other.strip(_MARK)))
        self._prototypes = classes.prototypes()
        self._capitals = {
            c: like
            for c, like in self._prototypes.items()
            if c.isupper() and len(like) == 1 and like in ascii_uppercase
        }

    def key(self, name: str) -> str:
        """What two names have in common that look alike, whatever their case, the width of their letters, and the
        blanks around and between their words."""
        # A capital letter may look like one of the basic alphabet where its small form does not, as М does like M.
        basic = "".join([self._capitals.get(c, c) for c in unicodedata.normalize("NFKC", name)])
        folded = basic.casefold()
        drawn = "".join([c for c in folded if c not in _IGNORED]).translate(_BLANK)
        return " ".join(self._skeleton(" ".join(drawn.split())).casefold().split())

    def _skeleton(self, text: str) -> str:
        drawn = [c for c in _nfd(text) if c not in _IGNORED]
        return _nfd("".join([self._prototypes.get(c, c) for c in drawn]))


class _Classes:
    """Texts that belong together, found by joining pairs."""

    def __init__(self) -> None:
        self._over: dict[str, str] = {}
        self._alike: defaultdict[str, set[str]] = defaultdict(set)

    def _top(self, text: str) -> str:
        over = self._over
        over.setdefault(text, text)
        while over[text] != text:
            over[text] = over[over[text]]
            text = over[text]
        return text

    def join(self, one: str, other: str) -> None:
        self._over[self._top(one)] = self._top(other)
        self._alike[one].add(other)
        self._alike[other].add(one)

    def prototypes(self) -> dict[str, str]:
        """Of each single character the text that stands for its class."""
        classes: defaultdict[str, list[str]] = defaultdict(list)
        for text in tuple(self._over):
            classes[self._top(text)].append(text)
        found: dict[str, str] = {}
        for texts in classes.values():
            best = min(texts, key=lambda text: (-len(self._alike[text]), len(text) == 1, text))
            found |= {text: best for text in texts if len(text) == 1 and text != best}
        return found


def _nfd(text: str) -> str:
    return unicodedata.normalize("NFD", text)
