"""Origins of pages (RFC 6454), as an operator names them."""

from __future__ import annotations

import re

ANY = "*"
_FORM = re.compile(r"[a-z][a-z0-9+.-]*://[^/?#\s@*]+")


def check_origin_form(origin: str) -> str:
    """An origin as a browser says it: scheme, host and port. `*` is any.

    Raises:
        ValueError: it is none; the text says what it should look like.
    """
    found = origin.rstrip("/").lower()
    if found != ANY and not _FORM.fullmatch(found):
        raise ValueError(
            f"{origin[:200]!r} is no origin: give its scheme, host and port, as in https://app.example.org"
        )
    return found
