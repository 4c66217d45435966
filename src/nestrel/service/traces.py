"""Where traces go: to a collector that takes OTLP over HTTP (OpenTelemetry Protocol 1.x)."""

from __future__ import annotations

from collections.abc import Callable

from nestrel import __version__
from nestrel.service.settings import Settings
from nestrel.store.tracing import tracing

_SECONDS = 5


def start(settings: Settings, node: str) -> Callable[[], None]:
    """Trace from now on, if the settings say where to; returns what ends that and sends what is left. What cannot be
    sent is dropped, and holds nobody up: a queue of 2,048 spans and a thread of its own are between."""
    if settings.traces_url is None:
        return lambda: None
    # Nobody imports them who does not trace.
    from opentelemetry.exporter.otlp.proto.http.trace_exporter import OTLPSpanExporter
    from opentelemetry.sdk.resources import Resource
    from opentelemetry.sdk.trace import TracerProvider
    from opentelemetry.sdk.trace.export import BatchSpanProcessor
    from opentelemetry.sdk.trace.sampling import ParentBased, TraceIdRatioBased

    resource = Resource.create({"service.name": "nestrel", "service.version": __version__, "service.instance.id": node})
    provider = TracerProvider(
        sampler=ParentBased(TraceIdRatioBased(settings.traces_share)), resource=resource, shutdown_on_exit=False
    )
    exporter = OTLPSpanExporter(endpoint=f"{settings.traces_url.rstrip('/')}/v1/traces", timeout=_SECONDS)
    provider.add_span_processor(BatchSpanProcessor(exporter, export_timeout_millis=_SECONDS * 1000))
    tracing.tracer = provider.get_tracer("nestrel", __version__)

    def stop() -> None:
        tracing.tracer = None
        provider.shutdown()

    return stop
