"""The connections of one process to its database: the primary, a pooler in front of it, standbys beside it."""

from __future__ import annotations

from dataclasses import dataclass

from nestrel.service import metrics
from nestrel.service.settings import Settings
from nestrel.store.database import Database
from nestrel.store.replicas import Replicas


@dataclass(frozen=True, slots=True)
class Stores:
    """`database` is for whatever somebody waits for, `background` for the rest: the same, where there is no pooler.
    `replicas` answer reads, where there are any."""

    database: Database
    background: Database
    replicas: Replicas

    async def close(self) -> None:
        await self.replicas.close()
        await self.background.close()
        await self.database.close()


def open_stores(settings: Settings, node: str) -> Stores:
    """What the settings name; nothing connects yet."""
    assert settings.database_url is not None
    notify, schema = settings.bus == "postgres", settings.schema_
    database = background = Database(
        settings.database_url, pool_size=settings.pool_size, notify=notify, node=node, schema=schema
    )
    if settings.pooler_url is not None:
        background = Database(
            settings.pooler_url, pool_size=settings.pool_size, notify=notify, node=node, schema=schema, pooled=True,
            history=database.history,
        )  # fmt: skip
    replicas = Replicas(
        database,
        settings.replica_urls,
        pool_size=settings.pool_size,
        count=lambda outcome: metrics.REPLICA_READS.labels(outcome).inc(),
    )
    return Stores(database, background, replicas)
