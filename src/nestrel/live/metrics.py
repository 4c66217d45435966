"""Prometheus metrics about following; all others are in `nestrel.service.metrics`."""

from __future__ import annotations

from prometheus_client import Counter, Gauge

DELIVERIES = Counter("nestrel_deliveries", "Change sets sent to followers")
CATCH_UPS = Counter("nestrel_catch_ups", "Change sets read from the store for a follower that was behind")
FOLLOWS = Gauge("nestrel_follows", "Conversations followed, counted for each connection", multiprocess_mode="livesum")
BUS_HEARD = Counter("nestrel_bus_heard", "Moves of conversations that other processes told this one of")
BUS_UNREADABLE = Counter("nestrel_bus_unreadable", "Words on the bus that no process of this service said")
BUS_NEEDED = Counter("nestrel_bus_needed", "Those of them that somebody here had to hear of")
READS = Counter("nestrel_reads", "Change sets read from the store for all followers of a conversation")
BUS_UP = Gauge(
    "nestrel_bus_up",
    "Whether every process hears of others' moves at once; if not, its followers hear at checkpoints",
    multiprocess_mode="livemin",
)
