"""The counts that processes share, in Redis."""

from __future__ import annotations

from collections.abc import Sequence

import redis.asyncio as redis

from nestrel.core.problems import StoreUnavailable, Trouble
from nestrel.core.rate import RateAnswer, RateRequest
from nestrel.live import redis_line

# A ring of sixty seconds, and the one in which they began, in a hash, as in the database; each key is by itself, so a
# cluster can spread them.
_TAKE = """
local now = tonumber(redis.call('TIME')[1])
local done, wanted, most = tonumber(ARGV[1]), tonumber(ARGV[2]), tonumber(ARGV[3])
local ring, used = {}, 0
local held = redis.call('HGETALL', KEYS[1])
for i = 1, #held, 2 do
    local at = tonumber(held[i])
    if at >= now - 60 then
        ring[at] = tonumber(held[i + 1])
        used = used + ring[at]
    else
        redis.call('HDEL', KEYS[1], held[i])
    end
end
used = used + done
local granted = used + wanted <= most
local add = done
if granted then add = add + wanted; used = used + wanted end
if add > 0 then
    redis.call('HINCRBY', KEYS[1], now, add)
    redis.call('EXPIRE', KEYS[1], 62)
    ring[now] = (ring[now] or 0) + add
end
local seconds, freed = 60, 0
if not granted then
    for ahead = 1, 61 do
        freed = freed + (ring[now + ahead - 61] or 0)
        if used - freed + wanted <= most then seconds = math.min(ahead, 60); break end
    end
end
return {granted and 1 or 0, math.max(most - used, 0), seconds}
"""


class RedisRates:
    """`Shared` on Redis."""

    def __init__(self, url: str, channel: str) -> None:
        self._client = redis_line.connect(url)
        self._channel = channel
        self._take = self._client.register_script(_TAKE)

    async def take(self, asked: Sequence[RateRequest]) -> list[RateAnswer]:
        """The answers, in the order of the questions. Raises `StoreUnavailable` where Redis is away."""
        try:
            async with self._client.pipeline(transaction=False) as pipeline:
                for one in asked:
                    key = f"{self._channel}:rate:{one.policy.name}:{one.key}"
                    await self._take(keys=[key], args=[one.done, one.wanted, one.policy.limit], client=pipeline)
                found = await pipeline.execute()
        except (redis.RedisError, OSError) as error:
            raise StoreUnavailable(f"the counts are away: {error}", reason=Trouble.AWAY) from None
        return [RateAnswer(bool(granted), int(left), int(seconds)) for granted, left, seconds in found]

    async def tidy(self) -> None:
        """They go by themselves."""

    async def close(self) -> None:
        await self._client.aclose()
