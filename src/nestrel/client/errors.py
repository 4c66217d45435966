"""The one error that the service cannot state itself."""

from __future__ import annotations

from nestrel.core.problems import NestrelError, Problem


class Unreachable(NestrelError):
    """The service does not answer, or not in a form that this client understands."""


def passes(error: Exception) -> bool:
    """Whether it may be otherwise later, without anyone doing anything: a service or a gateway that fails, or that
    wants one to wait, and a file that cannot be written now, as on a full disk."""
    return not isinstance(error, Problem) or error.status >= 500 or error.status in (408, 429)
