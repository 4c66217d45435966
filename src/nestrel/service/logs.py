"""Structured logs: one JSON object a line on stderr, the service's own and its libraries' alike."""

from __future__ import annotations

import logging
import sys
from contextvars import ContextVar
from typing import Any

import orjson
import structlog
from structlog.tracebacks import ExceptionDictTransformer

from nestrel.store.tracing import tracing


def _render(_logger: Any, _name: str, event: structlog.typing.EventDict) -> str:
    return orjson.dumps(event, default=str).decode()


REQUEST_ID: ContextVar[str | None] = ContextVar("request_id", default=None)
"""The id of the request, or of the socket, that the caller works for."""


def _with_request_id(_logger: Any, _name: str, event: structlog.typing.EventDict) -> structlog.typing.EventDict:
    """Every line that is written for a request has its id, whoever writes it; a traced one that of its trace."""
    if (request_id := REQUEST_ID.get()) is not None:
        event.setdefault("request_id", request_id)
    if tracing.tracer is not None and (here := tracing.here()) is not None:
        event.setdefault("trace_id", f"{here.trace_id:032x}")
    return event


def configure(level: str) -> None:
    """Set up logging for this process; `level` is debug, info, warning or error."""
    number = logging.getLevelNamesMapping()[level.upper()]
    shared: list[structlog.typing.Processor] = [
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
