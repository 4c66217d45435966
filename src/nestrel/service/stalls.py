"""Ends connections whose other side reads nothing."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Protocol

import structlog

from nestrel.service import metrics
from nestrel.service.outgoing import Outgoing
from nestrel.service.tokens import Identity

log = structlog.get_logger()

STALLED = 4408
"""The WebSocket's close code for a connection that is not read from."""
_GRACE_SECONDS = 5.0
_SHORT_SECONDS = 1.0


class Closable(Protocol):
    """A live connection, as the drain sees it and whoever looks for stalled ones."""

    @property
    def sending_since(self) -> float | None:
        """When it began to wait for the other side to read, by the monotonic clock; None while it does not."""

    @property
    def client(self) -> object:
        """The address of the other side."""

    @property
    def identity(self) -> Identity | None:
        """Whose it is, once that is known."""

    @property
    def connection(self) -> object:
        """The server's own side of it."""

    def close(self, code: int, reason: str) -> None:
        """End it once what is on its way has been sent."""

    def drain(self) -> None:
        """Take no more commands, and end when those under way have their answers."""


class Stalls:
    """Ends connections whose other side leaves what it was sent unread for longer than `seconds`. Each is told so,
    behind what it has not read, and has a few seconds to come to that; then `abort` cuts its line, given the server's
    own side of it. Where others wait for room to send, who does not read is cut at once, the longest first."""

    def __init__(
        self, sessions: set[Closable], outgoing: Outgoing, seconds: float, abort: Callable[[object], None]
    ) -> None:
        self._sessions = sessions
        self._outgoing = outgoing
        self._seconds = seconds
        self._abort = abort
        self._told: dict[Closable, float] = {}

    def look(self) -> None:
        """Look at all of them, as should be done every second."""
        now = time.monotonic()
        stalled = [(since, session) for session in tuple(self._sessions) if (since := session.sending_since)]
        if self._outgoing.short:
            for since, session in sorted(stalled, key=lambda one: one[0]):
                if now - since > _SHORT_SECONDS:
                    metrics.STALLED.inc()
                    self._abort(session.connection)
        for since, session in stalled:
            if now - since < self._seconds or session in self._told:
                continue
            self._told[session] = now
            metrics.STALLED.inc()
            log.info("connection.stalled", client=session.client, seconds=round(now - since))
            session.close(STALLED, "nothing was read for too long; come back, and resume from your cursor")
        for session, at in tuple(self._told.items()):
            if session not in self._sessions:
                del self._told[session]
            elif now - at >= _GRACE_SECONDS:
                del self._told[session]
                self._abort(session.connection)
