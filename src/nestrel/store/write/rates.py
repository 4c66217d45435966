"""The counts that processes share, in PostgreSQL."""

from __future__ import annotations

from collections.abc import Sequence

from nestrel.core.rate import RateAnswer, RateRequest
from nestrel.store.database import Database
from nestrel.store.native import array, execute, fetch, texts

# In the order of the keys, so that processes wait for each other and never in a ring.
_RATE_TAKE = """
SELECT * FROM nestrel.take_rates_v2($1::text::text[], $2::text::text[], $3::text::int[], $4::text::int[],
                                    $5::text::int[])
"""
_BEAT = """
INSERT INTO nestrel.processes (node) VALUES ($1) ON CONFLICT (node) DO UPDATE SET beat_at = clock_timestamp()
"""
_RATE_COUNT = "SELECT count(*) FROM nestrel.processes WHERE beat_at > clock_timestamp() - interval '15 seconds'"
_RATE_BURY = "DELETE FROM nestrel.processes WHERE beat_at < clock_timestamp() - interval '60 seconds'"
_RATE_LEAVE = "DELETE FROM nestrel.processes WHERE node = $1"
_RATE_FORGET = "DELETE FROM nestrel.rate_counts WHERE at < extract(epoch FROM clock_timestamp()) - 120"


class StoredRates:
    """`Shared` on PostgreSQL."""

    def __init__(self, database: Database) -> None:
        self._database = database

    async def take(self, asked: Sequence[RateRequest]) -> list[RateAnswer]:
        """The answers, in the order of the questions."""
        order = sorted(range(len(asked)), key=lambda n: (asked[n].policy.name, asked[n].key))
        ordered = [asked[n] for n in order]
        async with self._database.read() as connection:
            found = await fetch(
                connection,
                _RATE_TAKE,
                texts([one.policy.name for one in ordered]),
                texts([one.key for one in ordered]),
                array([one.done for one in ordered]),
                array([one.wanted for one in ordered]),
                array([one.policy.limit for one in ordered]),
            )
        told = {n: RateAnswer(*row) for n, row in zip(order, found, strict=True)}
        return [told[n] for n in range(len(asked))]

    async def tidy(self) -> None:
        """Forget counts that say nothing any more."""
        async with self._database.read() as connection:
            await execute(connection, _RATE_FORGET)

    async def close(self) -> None:
        """Nothing of its own."""


async def beat(database: Database, node: str) -> int:
    """Say that a process is there; how many are."""
    async with database.read() as connection:
        await execute(connection, _BEAT, node)
        await execute(connection, _RATE_BURY)
        [(count,)] = await fetch(connection, _RATE_COUNT)
    return int(count)


async def leave(database: Database, node: str) -> None:
    """A process stops."""
    async with database.read() as connection:
        await execute(connection, _RATE_LEAVE, node)
