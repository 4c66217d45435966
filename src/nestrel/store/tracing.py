"""Traces (OpenTelemetry): where the time of a command went. Off until a process is given somewhere to send them.

A request or a frame is a span. Those whose commands go into one transaction share a *batch*, which belongs to the trace
of the first and is linked to the others; its statements are within it, and what it moved is told to followers in
*deliveries*, the first few of which are recorded. Statements are recorded where something is that they are part of.
Nothing that people wrote is in a span: a statement is shown without its values.
"""

from __future__ import annotations

import time
from collections import OrderedDict
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from typing import TYPE_CHECKING
from uuid import UUID

if TYPE_CHECKING:  # which nobody imports who does not trace
    from opentelemetry.context import Context
    from opentelemetry.trace import Link, Span, SpanContext, SpanKind, Tracer

_TOLD_MOST = 8
"""Deliveries of one change that are recorded."""
_MOVES_MOST = 1_000
_STATEMENT_CHARS = 2_000


class Tracing:
    """What one process traces with. `tracer` is None while it does not."""

    def __init__(self) -> None:
        self.tracer: Tracer | None = None
        self._moves: OrderedDict[UUID, tuple[int, SpanContext, int, int]] = OrderedDict()

    def here(self) -> SpanContext | None:
        """The span that the caller is in, if that is recorded."""
        from opentelemetry import trace

        found = trace.get_current_span().get_span_context()
        return found if found.is_valid and found.trace_flags.sampled else None

    def _span(
        self, name: str, context: Context | None, kind: SpanKind, attributes: Mapping[str, str | int] | None = None,
        links: Sequence[Link] = (),
    ) -> AbstractContextManager[Span]:  # fmt: skip
        """A span without the words of the error that may end it: those name values, which people wrote."""
        assert self.tracer is not None
        return self.tracer.start_as_current_span(
            name, context, kind, attributes, links, record_exception=False, set_status_on_exception=False
        )

    def door(self, name: str, headers: Mapping[str, str] | None = None) -> AbstractContextManager[Span]:
        """What comes from outside; `headers` may say whose trace it is part of (W3C Trace Context)."""
        from opentelemetry.trace import SpanKind
        from opentelemetry.trace.propagation.tracecontext import TraceContextTextMapPropagator

        context = TraceContextTextMapPropagator().extract(headers) if headers is not None else None
        return self._span(name, context, SpanKind.SERVER)

    def statement(self, sql: str) -> AbstractContextManager[Span]:
        """One statement, where it is part of something."""
        from opentelemetry.trace import SpanKind

        words = " ".join(sql.split())
        attributes = {"db.system.name": "postgresql", "db.query.text": words[:_STATEMENT_CHARS]}
        return self._span(words.split(" ", 1)[0], None, SpanKind.CLIENT, attributes)

    @contextmanager
    def batch(self, commands: int, parts: Sequence[SpanContext]) -> Iterator[None]:
        """One transaction of the write path, for commands that were offered in these spans."""
        from opentelemetry import context, trace

        if self.tracer is None:
            yield
            return
        if not parts:
            # Whoever woke the task that writes may have been in a span, which this is no part of.
            outside = context.attach(context.Context())
            try:
                yield
            finally:
                context.detach(outside)
            return
        first = trace.set_span_in_context(trace.NonRecordingSpan(parts[0]))
        links = [trace.Link(one) for one in parts[1:]]
        attributes = {"nestrel.commands": commands}
        with self._span("batch", first, trace.SpanKind.INTERNAL, attributes, links):
            yield

    def moved(self, moves: Iterable[tuple[UUID, int]]) -> None:
        """What the batch that the caller is in has moved, and up to which `rev`."""
        if (here := self.here()) is not None:
            self._remember(here, moves)

    def carried(self) -> str | None:
        """The span that the caller is in, if that is recorded, for another process (`traceparent` of W3C Trace
        Context)."""
        here = self.here()
        return f"00-{here.trace_id:032x}-{here.span_id:016x}-01" if here is not None else None

    def heard(self, carried: str, moves: Iterable[tuple[UUID, int]]) -> None:
        """The same as `moved`, of a batch of another process, which said so."""
        from opentelemetry import trace
        from opentelemetry.trace.propagation.tracecontext import TraceContextTextMapPropagator

        context = TraceContextTextMapPropagator().extract({"traceparent": carried})
        batch = trace.get_current_span(context).get_span_context()
        if batch.is_valid:
            # What this process has written itself comes back over the bus, too.
            self._remember(batch, [(id_, rev) for id_, rev in moves if self._moves.get(id_, (0,))[0] < rev])

    def _remember(self, batch: SpanContext, moves: Iterable[tuple[UUID, int]]) -> None:
        now = time.time_ns()
        for conversation_id, rev in moves:
            self._moves[conversation_id] = rev, batch, now, 0
            self._moves.move_to_end(conversation_id)
        while len(self._moves) > _MOVES_MOST:
            self._moves.popitem(last=False)

    def delivered(self, conversation_id: UUID, after: int, rev: int) -> None:
        """What changed after a `rev` and up to another is handed to a connection: how long after its transaction, or,
        where that was another process's, after word of it."""
        found = self._moves.get(conversation_id)
        if found is None or self.tracer is None:
            return
        from opentelemetry import trace
        from opentelemetry.trace import SpanKind

        moved, batch, since, told = found
        if not after < moved <= rev or told >= _TOLD_MOST:
            return
        self._moves[conversation_id] = moved, batch, since, told + 1
        parent = trace.set_span_in_context(trace.NonRecordingSpan(batch))
        self.tracer.start_span("delivery", parent, SpanKind.PRODUCER, start_time=since).end()


tracing = Tracing()
"""This process's own: what is traced goes through every layer, and is nobody's to hand on."""
