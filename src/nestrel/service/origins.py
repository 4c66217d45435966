"""Pages of other origins (RFC 6454): who of them may call, and what their browser is told (Fetch, 3.3)."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import structlog

from nestrel.core.origins import ANY, check_origin_form
from nestrel.core.problems import Forbidden

log = structlog.get_logger()

_PREFLIGHT_SECONDS = 7_200
"""How long a browser may keep what it was told. No browser keeps it for longer than that, or than a day."""
_METHODS = b"GET, HEAD, POST, PUT, PATCH, DELETE"
_TAKEN = (
    b"Authorization, Content-Type, Content-Digest, Content-Disposition, Idempotency-Key, If-Match, If-None-Match, "
    b"If-Range, Last-Event-ID, Range, X-Request-ID, traceparent, tracestate"
)
_SHOWN = (
    b"ETag, Link, Location, Retry-After, RateLimit, RateLimit-Policy, X-Request-ID, Content-Disposition, "
    b"Content-Range, Accept-Ranges"
)
_VARY = (b"vary", b"Origin")
_MOST_NOTED = 100
"""Origins whose refusal a process remembers, so that its log says it once. Whoever asks under more names than that is
not logged any more."""

Headers = Sequence[tuple[bytes, bytes]]


class Origins:
    """The origins of `NESTREL_ORIGINS`, whose pages may call the API. Of any other one's calls the browser shows the
    page nothing."""

    def __init__(self, origins: Iterable[str]) -> None:
        told = {check_origin_form(origin) for origin in origins}
        self._any = ANY in told
        self._named = told - {ANY}
        self._noted: set[str] = set()

    def named(self, origin: str) -> bool:
        """Whether an origin is named in full; its pages may use a browser's session, too."""
        return origin.rstrip("/").lower() in self._named

    def may_call(self, origin: str) -> bool:
        """Whether pages of an origin may call, with a token."""
        return self._any or self.named(origin)

    def on_answers(self, origin: str | None) -> Headers:
        """The headers of every answer to a request with this `Origin`. A cache keeps answers to different origins
        apart as soon as they differ."""
        if not (self._any or self._named):
            return ()
        if origin is None or not self.may_call(origin):
            return (_VARY,)
        told = [
            (b"access-control-allow-origin", origin.encode("latin-1")),
            (b"access-control-expose-headers", _SHOWN),
            _VARY,
        ]
        if self.named(origin):
            told.append((b"access-control-allow-credentials", b"true"))
        return told

    def on_preflight(self, origin: str) -> Headers:
        """The headers of the answer to a preflight request, beside those of every answer.

        Raises:
            Forbidden: pages of this origin may not call.
        """
        if not self.may_call(origin):
            raise self.refusal(origin)
        return (
            (b"access-control-allow-methods", _METHODS),
            (b"access-control-allow-headers", _TAKEN),
            (b"access-control-max-age", b"%d" % _PREFLIGHT_SECONDS),
        )

    def refusal(self, origin: str) -> Forbidden:
        """What a page of an origin is told that may not call. The log says it once for each origin."""
        origin = origin[:200]
        if origin not in self._noted and len(self._noted) < _MOST_NOTED:
            self._noted.add(origin)
            log.warning("origin.refused", origin=origin, advice="add it to NESTREL_ORIGINS if its pages may call")
        return Forbidden(f"pages of {origin} may not call this service; add it to NESTREL_ORIGINS")
