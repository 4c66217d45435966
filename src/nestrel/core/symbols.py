"""The symbol of a reaction: the word `like`, or one emoji."""

from __future__ import annotations

LIKE = "like"

_MOST = 64
_MARKS = ("\x00", "\x00")


def check_symbol(text: str) -> str:
    """`like`, or one emoji of Unicode (UTS 51) in its fully-qualified form, so that the two ways to write a heart are
    one symbol.

    Raises:
        ValueError: with a detail fit for the caller.
    """
    if text == LIKE:
        return text
    import emoji  # late: its tables take 10 MB and a tenth of a second, which a client that never checks need not pay

    if len(text) > _MOST or not emoji.is_emoji(text):
        raise ValueError("must be like, or exactly one emoji")
    return emoji.emojize(emoji.demojize(text, delimiters=_MARKS), delimiters=_MARKS)
