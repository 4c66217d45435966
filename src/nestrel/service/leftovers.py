"""Finishes what was begun and is not done: work that takes many steps, or that a killed process has left."""

from __future__ import annotations

import asyncio

import structlog

from nestrel.core.skeleton import Skeletons
from nestrel.live.waiting import happens
from nestrel.store.database import Database
from nestrel.store.keep import closed
from nestrel.store.write import conversations, defaults, profiles

log = structlog.get_logger()

_PAUSE_SECONDS = 5.0


async def work_off(database: Database, skeletons: Skeletons | None, something: asyncio.Event) -> None:
    """Take away what closed conversations held, at start and whenever there is `something`; join people to what has
    become everyone's; and go on with changed profiles of which not all have been told, or names that are not unique
    yet, or of which it is not known what they look like. Until cancelled."""
    while True:
        try:
            while await closed.step(database):
                pass
            while await profiles.go_on(database):
                pass
            while await defaults.step(database):
                pass
            while await conversations.learn_looks(database):
                pass
            while skeletons is not None and await profiles.adopt(database, skeletons):
                pass
        except Exception as error:
            log.warning("erase.failed", reason=str(error))
        await happens(something, _PAUSE_SECONDS)
        something.clear()
