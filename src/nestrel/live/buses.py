"""Makes the bus that a setting names."""

from __future__ import annotations

from nestrel.live import redis_line
from nestrel.live.bus import Bus, Form, PostgresBus
from nestrel.live.redis_bus import RedisBus
from nestrel.store import events


def make_bus(setting: str, database_url: str, node: str, schema: str, words: Form) -> Bus:
    """The bus of `NESTREL_BUS`: `postgres`, or the address of a Redis or of its Sentinels (`nestrel.live.redis_line`).

    Raises:
        ValueError: it is neither.
    """
    channel = events.channel(schema)
    if setting == "postgres":
        return PostgresBus(database_url, node, channel, words)
    return RedisBus(redis_line.connect(setting), node, channel, words)
