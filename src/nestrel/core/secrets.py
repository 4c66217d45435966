"""Shared secrets of tokens, as an operator gives them: one, or several while they are changed."""

from __future__ import annotations

import re

_BYTES = 32


def parse_secrets(text: str) -> tuple[str, ...]:
    """The secrets in a text, with commas or line breaks between and white space around them left out. Tokens are signed
    with the first one, and verified with each.

    Raises:
        ValueError: there is none, one is empty, or one is shorter than a key of HS256 has to be (RFC 7518, 3.2).
    """
    parts = tuple(part.strip() for part in re.split(r",|\r?\n", text.strip()))
    if not all(parts):
        raise ValueError("has an empty secret; give one, or the new one and the one before with a comma between")
    short = [n for n, part in enumerate(parts, 1) if len(part.encode()) < _BYTES]
    if short and len(parts) == 1:
        raise ValueError(f"must have {_BYTES} bytes or more (RFC 7518, 3.2)")
    if short:
        raise ValueError(
            f"secret {short[0]} of {len(parts)} is too short: each must have {_BYTES} bytes or more (RFC 7518, 3.2). A "
            "comma stands between two secrets, and in none"
        )
    return parts
