"""The one error that the service cannot state itself."""

from __future__ import annotations

from nestrel.core.problems import NestrelError


class Unreachable(NestrelError):
    """The service does not answer, or not in a form that this client understands."""
