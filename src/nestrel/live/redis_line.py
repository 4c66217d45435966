"""The way to Redis."""

from __future__ import annotations

from typing import Any

import redis.asyncio as redis
from redis.asyncio.retry import Retry
from redis.asyncio.sentinel import Sentinel
from redis.backoff import NoBackoff

from nestrel.live import redis_address

_SECONDS = 5.0


def connect(url: str) -> redis.Redis:
    """A client for an address (`nestrel.live.redis_address`); nothing connects yet. Raises `ValueError`."""
    common: dict[str, Any] = {
        "socket_connect_timeout": _SECONDS,
        "socket_timeout": _SECONDS,
        "retry": Retry(NoBackoff(), 1),  # on a line of before; beyond that the bus waits, with growing pauses
    }
    behind = redis_address.parse(url)
    if behind is None:
        return redis.from_url(url, **common)
    options: dict[str, Any] = dict(behind.options)
    tls = {key: options.pop(key) for key in tuple(options) if key.startswith("ssl_")} | {"ssl": behind.tls}
    own = {"username": behind.user, "password": behind.password}
    asked = Sentinel(  # type: ignore[no-untyped-call]  # the driver gives it no types
        behind.sentinels, sentinel_kwargs={**common, **tls, **own}
    )
    client: redis.Redis = asked.master_for(behind.name, **common, **tls, **options)
    return client
