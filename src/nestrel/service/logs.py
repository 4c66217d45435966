"""Structured logs: one JSON object a line on stderr, the service's own and its libraries' alike."""

from __future__ import annotations

import logging
import sys
import time
from contextvars import ContextVar
from typing import Any

import orjson
import structlog
from structlog.tracebacks import ExceptionDictTransformer

from nestrel.store.tracing import tracing


def _render(_logger: Any, _name: str, event: structlog.typing.EventDict) -> str:
    return orjson.dumps(event, default=str).decode()


_SAME_SECONDS = 60.0
_SAME_MOST = 1_000

REQUEST_ID: ContextVar[str | None] = ContextVar("request_id", default=None)
"""The id of the request, or of the socket, that the caller works for."""


def _with_request_id(_logger: Any, _name: str, event: structlog.typing.EventDict) -> structlog.typing.EventDict:
    """Every line that is written for a request has its id, whoever writes it; a traced one that of its trace."""
    if (request_id := REQUEST_ID.get()) is not None:
        event.setdefault("request_id", request_id)
    if tracing.tracer is not None and (here := tracing.here()) is not None:
        event.setdefault("trace_id", f"{here.trace_id:032x}")
    return event


class _OnceAMinute:
    """Leaves out a warning that says the same as one of the last minute: where a database is away, every part of the
    service says so, again and again. The next one has how many were left out as `repeated`."""

    def __init__(self) -> None:
        self._said: dict[tuple[str, str], tuple[float, int]] = {}

    def __call__(self, _logger: Any, name: str, event: structlog.typing.EventDict) -> structlog.typing.EventDict:
        if name != "warning" or "reason" not in event:
            return event
        now, key = time.monotonic(), (str(event["event"]), str(event["reason"]))
        at, left_out = self._said.get(key, (-_SAME_SECONDS, 0))
        if now - at < _SAME_SECONDS:
            self._said[key] = (at, left_out + 1)
            raise structlog.DropEvent
        if len(self._said) >= _SAME_MOST:
            self._said.clear()
        self._said[key] = (now, 0)
        if left_out:
            event["repeated"] = left_out
        return event


def configure(level: str) -> None:
    """Set up logging for this process; `level` is debug, info, warning or error."""
    number = logging.getLevelNamesMapping()[level.upper()]
    shared: list[structlog.typing.Processor] = [
        _OnceAMinute(),
        _with_request_id,
        structlog.processors.add_log_level,
        structlog.processors.TimeStamper(fmt="iso", utc=True),
        # No local variables: they hold tokens and what people wrote.
        structlog.processors.ExceptionRenderer(ExceptionDictTransformer(show_locals=False, max_frames=12)),
    ]
    structlog.configure(
        processors=[*shared, _render],
        wrapper_class=structlog.make_filtering_bound_logger(number),
        logger_factory=structlog.WriteLoggerFactory(file=sys.stderr),
        cache_logger_on_first_use=True,
    )
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(
        structlog.stdlib.ProcessorFormatter(
            foreign_pre_chain=shared,
            processors=[structlog.stdlib.ProcessorFormatter.remove_processors_meta, _render],
        )
    )
    root = logging.getLogger()
    root.handlers[:] = [handler]
    root.setLevel(max(number, logging.WARNING))
