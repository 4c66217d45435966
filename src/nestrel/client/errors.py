"""The one error that the service cannot state itself."""

from __future__ import annotations

from typing import Any

import orjson

from nestrel.core.problems import Problem, Unreachable


def read_json(content: bytes, key: str | None = None) -> Any:
    """The JSON of an answer; an object with a `key`, where one is asked for.

    Raises:
        Unreachable: it is none: something else than the service has answered, as the page that a network signs in by.
    """
    try:
        found = orjson.loads(content)
    except orjson.JSONDecodeError:
        raise Unreachable("what answered is not the service: its answer is not JSON") from None
    if key is not None and not (isinstance(found, dict) and key in found):
        raise Unreachable(f"what answered is not the service: its answer has no {key!r}")
    return found


def passes(error: Exception) -> bool:
    """Whether it may be otherwise later, without anyone doing anything: a service or a gateway that fails, or that
    wants one to wait, and a file that cannot be written now, as on a full disk."""
    return not isinstance(error, Problem) or error.status >= 500 or error.status in (408, 429)
