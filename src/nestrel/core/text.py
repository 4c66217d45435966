"""What text may be: bodies, names, ids, keys and attributes.

Each check returns the value to keep or raises `ValueError` with a detail fit for the caller; what is over its size
raises `TooLarge`.
"""

from __future__ import annotations

import re
import unicodedata
from typing import Any

import orjson

from nestrel.core import limits
from nestrel.core.problems import TooLarge

_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f]")
_TURNS = re.compile(r"[\u202a-\u202e\u2066-\u2069]")
_SURROGATE = re.compile(r"[\ud800-\udfff]")


def check_unicode(text: str) -> str:
    """Refuse what PostgreSQL and UTF-8 cannot hold: NUL and lone surrogates."""
    if "\x00" in text:
        raise ValueError("must not contain the character NUL (U+0000)")
    if not text.isascii() and _SURROGATE.search(text):
        raise ValueError("must not contain a lone surrogate; send well-formed Unicode")
    return text


def check_body(body: str) -> str:
    """A message body: 1 to 8,000 code points, not blank, kept exactly as sent."""
    check_unicode(body)
    if len(body) > limits.BODY_CHARS:
        raise TooLarge(
            f"a body has at most {limits.BODY_CHARS:,} characters; this one has {len(body):,}. "
            "Send it as several messages."
        )
    if not body.strip():
        raise ValueError("must not be empty or blank")
    return body


def _check_line(text: str, most: int, *, empty: bool) -> str:
    check_unicode(text)
    if _CONTROL.search(text):
        raise ValueError("must not contain control characters")
    if len(text) > most:
        raise ValueError(f"has {len(text)} characters; at most {most} are allowed")
    if not empty and not text.strip():
        raise ValueError("must not be empty or blank")
    return text


def check_title(title: str) -> str:
    """The free text shown for a conversation, on one line."""
    return _check_line(title, limits.TITLE_CHARS, empty=True)


def check_reason(reason: str) -> str:
    """Why somebody does something, in a few lines."""
    check_unicode(reason)
    if not reason.strip():
        raise ValueError("must not be empty or blank")
    if len(reason) > limits.REASON_CHARS:
        raise ValueError(f"must have at most {limits.REASON_CHARS:,} characters")
    return reason


def check_name(name: str) -> str:
    """The short unique handle of a conversation, with no white space around it."""
    _check_line(name, limits.NAME_CHARS, empty=False)
    if name != name.strip():
        raise ValueError("must not begin or end with white space")
    return _check_direction(name)


def name_key(name: str) -> str:
    """What makes two names the same: compatibility form and case do not tell them apart."""
    return unicodedata.normalize("NFKC", unicodedata.normalize("NFKC", name).casefold())


def check_display_name(name: str) -> str:
    """What a person is shown as, on one line and in one direction."""
    return _check_direction(_check_line(name, limits.DISPLAY_NAME_CHARS, empty=False))


def _check_direction(name: str) -> str:
    """Refuse what turns the direction of other characters: a name would look like another one."""
    if not name.isascii() and _TURNS.search(name):
        raise ValueError("must not contain characters that turn the direction of text (U+202A-202E, U+2066-2069)")
    return name


def check_picture(picture: str) -> str:
    """A picture's address: an absolute http or https URL (RFC 3986)."""
    _check_line(picture, limits.PICTURE_CHARS, empty=False)
    if not re.match(r"https?://[^\s/]+", picture):
        raise ValueError("must be an absolute http or https address")
    return picture


def check_user_id(user_id: str) -> str:
    """A user id is a token's `sub` (RFC 7519): 1 to 128 characters, and no word that stands for people in paths."""
    _check_line(user_id, limits.USER_ID_CHARS, empty=False)
    if user_id in ("me", "all"):
        raise ValueError(f"must not be {user_id!r}, which stands for people")
    if len(user_id.encode("utf-16-le")) > 2 * limits.USER_ID_CHARS:
        raise ValueError(f"has more than {limits.USER_ID_CHARS} UTF-16 code units")
    return user_id


def check_mentions(user_ids: list[str]) -> list[str]:
    """Users named in a message: at most 50, each counted once."""
    named = list(dict.fromkeys(user_ids))
    if len(named) > limits.MENTIONS:
        raise TooLarge(f"a message mentions at most {limits.MENTIONS} users; this one has {len(named):,}")
    return named


def check_key(key: str) -> str:
    """An idempotency key: the client's own id for a post, 1 to 128 characters."""
    check_unicode(key)
    if not 1 <= len(key) <= limits.KEY_CHARS:
        raise ValueError(f"must have 1 to {limits.KEY_CHARS} characters")
    return key


def _depth(value: Any) -> int:
    deepest, level = 0, [value]
    while level:
        deepest += 1
        level = [
            child
            for node in level
            if isinstance(node, (dict, list))
            for child in (node.values() if isinstance(node, dict) else node)
        ]
        if deepest > limits.ATTRIBUTES_DEPTH:
            break
    return deepest


def check_attributes(attributes: dict[str, Any]) -> dict[str, Any]:
    """Free attributes: at most 4 KB as compact JSON, nested at most 32 deep, no NUL and no surrogates."""
    if _depth(attributes) > limits.ATTRIBUTES_DEPTH:
        raise ValueError(f"is nested more than {limits.ATTRIBUTES_DEPTH} deep")
    try:
        packed = orjson.dumps(attributes)
    except orjson.JSONEncodeError as error:
        raise ValueError(f"cannot be kept as JSON: {error}") from None
    if len(packed) > limits.ATTRIBUTES_BYTES:
        raise TooLarge(f"attributes take at most {limits.ATTRIBUTES_BYTES:,} bytes as JSON; these take {len(packed):,}")
    if b"\\u0000" in packed and "\x00" in _all_text(attributes):
        raise ValueError("must not contain the character NUL (U+0000)")
    return attributes


def _all_text(value: Any) -> str:
    if isinstance(value, str):
        return value
    if isinstance(value, dict):
        return "".join(key + _all_text(child) for key, child in value.items())
    if isinstance(value, list):
        return "".join(map(_all_text, value))
    return ""


def pack_attributes(attributes: dict[str, Any] | None) -> str | None:
    """Attributes as the compact JSON that is stored; none for an empty object."""
    return orjson.dumps(attributes).decode() if attributes else None
