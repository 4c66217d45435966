"""Rates in one process. Who does too much is told to slow down; almost nobody else waits for the count."""

from __future__ import annotations

import asyncio
import ipaddress
import time
from collections.abc import MutableMapping, Sequence
from typing import Any, Protocol

import structlog

from nestrel.core.problems import StoreUnavailable
from nestrel.core.rate import Left, Policy, RateAnswer, RateRequest, Rates
from nestrel.live.redis_rates import RedisRates
from nestrel.service.settings import Settings
from nestrel.store import events
from nestrel.store.database import Database
from nestrel.store.write import rates
from nestrel.store.write.rates import StoredRates

log = structlog.get_logger()

_TELL_SECONDS = 1.0
_BEAT_TURNS = 5
_TIDY_TURNS = 60
_MANY = 500


class Shared(Protocol):
    """The counts that all processes share."""

    async def take(self, asked: Sequence[RateRequest]) -> list[RateAnswer]:
        """The answers, in the order of the questions. Raises `StoreUnavailable`."""

    async def tidy(self) -> None:
        """Forget what says nothing any more."""

    async def close(self) -> None:
        """Let go."""


class RateLimits:
    """The limits of `settings`. One that is not set costs nothing."""

    def __init__(self, settings: Settings, database: Database, node: str) -> None:
        self.commands = _policy("commands", settings.rate_limit, "commands")
        self.reads = _policy("reads", settings.rate_limit_reads, "reads")
        self.address = _policy(
            "address", settings.rate_limit_address, "requests from one address that is not signed in"
        )
        self.limits_members = self.commands is not None or self.reads is not None
        self._policies = {one.name: one for one in (self.commands, self.reads, self.address) if one is not None}
        self._database = database
        self._node = node
        self._rates = Rates()
        self._count = 0
        channel = events.channel(settings.schema_)
        self._shared: Shared = (
            StoredRates(database) if settings.bus == "postgres" else RedisRates(settings.bus, channel)
        )
        self._asking: dict[tuple[str, str], asyncio.Lock] = {}

    @property
    def alone(self) -> bool:
        """Whether no other process is known to be there."""
        return self._count <= 1

    async def count(self, policy: Policy | None, key: str, n: int = 1) -> Left | None:
        """Count `n` of what a policy limits; what is left then.

        Raises:
            SlowDown: there is no room for it.
        """
        if policy is None:
            return None
        if not self._rates.passes(policy, key, n, time.monotonic()):
            await self._ask(policy, key, n)
        return self._rates.left(policy, key, time.monotonic())

    def left(self, policy: Policy, key: str) -> Left:
        """What is known to be left."""
        return self._rates.left(policy, key, time.monotonic())

    async def _ask(self, policy: Policy, key: str, n: int) -> None:
        """One question at a time for each key: what many wait for is often known when it is their turn."""
        lock = self._asking.setdefault((policy.name, key), asyncio.Lock())
        try:
            async with lock:
                if self._rates.passes(policy, key, n, time.monotonic()):
                    return
                asked = self._rates.asks(policy, key, n)
                try:
                    [told] = await self._shared.take([asked])
                except StoreUnavailable:
                    self._rates.unheard(asked)  # the limits are no reason to serve nobody
                    return
                self._rates.heard(asked, told, time.monotonic())
        finally:
            if not lock.locked():
                self._asking.pop((policy.name, key), None)

    async def run(self) -> None:
        """Tell the others of what was let through here, and learn how many they are, until cancelled."""
        turn = 0
        while True:
            try:
                if turn % _BEAT_TURNS == 0:
                    count = self._count = await rates.beat(self._database, self._node)
                    # Others count this one by their next beat; until then hardly anything is let through unasked.
                    self._rates.processes = count if turn >= 2 * _BEAT_TURNS else 0
                if self._policies:
                    await self._tell()
                    if turn % _TIDY_TURNS == 0:
                        await self._shared.tidy()
            except StoreUnavailable:
                pass  # what was not told is told when it is there again
            except Exception as error:
                log.warning("rates.failed", reason=str(error))
            turn += 1
            await asyncio.sleep(_TELL_SECONDS)

    async def _tell(self) -> None:
        untold = list(self._rates.untold(self._policies, time.monotonic()))
        for start in range(0, len(untold), _MANY):
            some = untold[start : start + _MANY]
            try:
                answers = await self._shared.take(some)
            except StoreUnavailable:
                for asked in untold[start:]:
                    self._rates.unheard(asked)
                raise
            for asked, told in zip(some, answers, strict=True):
                self._rates.heard(asked, told._replace(granted=True), time.monotonic())

    async def stop(self) -> None:
        """Tell what is left to tell, and leave."""
        try:
            async with asyncio.timeout(_TELL_SECONDS):
                await self._tell()
                await rates.leave(self._database, self._node)
        except (TimeoutError, StoreUnavailable) as error:
            log.info("rates.not_told", reason=str(error))
        await self._shared.close()


def _policy(name: str, limit: int | None, of: str) -> Policy | None:
    return Policy(name, limit, of) if limit else None


def address_of(scope: MutableMapping[str, Any]) -> str:
    """What a client is counted by that is not signed in: its IPv4 address, or its network of IPv6 (/64), which is one
    household's."""
    client = scope.get("client")
    try:
        found = ipaddress.ip_address(client[0] if client else "")
    except ValueError:
        return "none"
    if isinstance(found, ipaddress.IPv6Address):
        if found.ipv4_mapped is not None:
            return str(found.ipv4_mapped)
        return str(ipaddress.ip_network((found, 64), strict=False))
    return str(found)
