"""What is counted, for Prometheus (text format 0.0.4). With several workers their files are added up."""

from __future__ import annotations

import os

from prometheus_client import REGISTRY, CollectorRegistry, Counter, Gauge, Histogram, generate_latest, multiprocess

MESSAGES = Counter("nestrel_messages", "Messages posted and durable")
WAITING_POSTS = Counter("nestrel_waiting_posts", "Posts left in the database that were taken", ["outcome"])
STALLED = Counter("nestrel_stalled", "Connections ended because nothing was read from them")
EXPIRED = Counter("nestrel_expired", "Messages that the sweep has taken away", ["then"])
SWEEP_BACKLOG = Gauge(
    "nestrel_sweep_backlog", "Expired messages that the sweep has still to take away", multiprocess_mode="mostrecent"
)
SWEEP_LAG = Gauge(
    "nestrel_sweep_lag_seconds",
    "Time since the sweep last came to the conversation that has waited longest",
    multiprocess_mode="mostrecent",
)
SWEEP_STEP_SECONDS = Histogram(
    "nestrel_sweep_step_seconds",
    "Time of one step of the sweep",
    buckets=(0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 5),
)
REPLICA_READS = Counter("nestrel_replica_reads", "Questions to standbys: answered, behind or failed", ["outcome"])
CONSUMERS = Gauge("nestrel_consumers", "Durable consumers of the journal that this process holds")
PUSHES = Counter("nestrel_pushes", "Notices to devices, by what came of them", ["outcome"])
WEBHOOK_REQUESTS = Counter("nestrel_webhook_requests", "Requests to webhooks, by what came of them", ["outcome"])
SEARCH_INDEXED = Counter("nestrel_search_indexed", "Messages that went into the search index")
SEARCH_BEHIND = Gauge(
    "nestrel_search_behind_conversations",
    "Conversations that have moved and are not in the search index as they stand",
    multiprocess_mode="max",
)
SEARCH_STEP_SECONDS = Histogram(
    "nestrel_search_step_seconds",
    "Time in which the search index was brought to date; a second lies between two",
    buckets=(0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2, 5, 30),
)
TRANSFERS_CUT = Counter("nestrel_transfers_cut", "Files whose transfer was ended, as others waited and it was slow")
ATTACHMENT_BYTES = Counter("nestrel_attachment_bytes", "Bytes of attachments that came, and that went out", ["way"])
OBJECTS_COLLECTED = Counter("nestrel_objects_collected", "Files and previews that nothing had any more, deleted")
MEMORY = Gauge(
    "nestrel_memory_bytes", "What is held of the memory budget, by part", ["of"], multiprocess_mode="livesum"
)
MEMORY_BUDGET = Gauge("nestrel_memory_budget_bytes", "The memory budget of all processes", multiprocess_mode="livesum")
USAGE_BEHIND = Gauge(
    "nestrel_usage_behind_seconds",
    "Age of what was counted of usage and has not been added yet; 10 s is promised",
    multiprocess_mode="livemax",
)
REFUSALS = Counter("nestrel_refusals", "Refused requests and frames", ["problem"])
CONNECTIONS = Gauge("nestrel_connections", "Open WebSockets", multiprocess_mode="livesum")
STREAMS = Gauge("nestrel_streams", "Open streams of events", multiprocess_mode="livesum")
REQUEST_SECONDS = Histogram(
    "nestrel_request_seconds",
    "Time of an HTTP request",
    ["method", "path", "status"],
    buckets=(0.002, 0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1, 2.5, 5, 30),
)
BATCH_COMMANDS = Histogram(
    "nestrel_batch_commands",
    "Commands that one transaction carried out",
    buckets=(1, 2, 4, 8, 16, 32, 64, 128, 256, 512, 1024),
)


def registry() -> CollectorRegistry:
    """All metrics of this service, of every worker."""
    if "PROMETHEUS_MULTIPROC_DIR" not in os.environ:
        return REGISTRY
    every = CollectorRegistry()
    multiprocess.MultiProcessCollector(every)  # type: ignore[no-untyped-call]  # the package leaves it untyped
    return every


def exposition() -> bytes:
    """The same as Prometheus text."""
    return generate_latest(registry())
