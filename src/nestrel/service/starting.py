"""What a process does until its database serves: it says once what is missing, and waits."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable

import structlog

from nestrel.core.problems import StoreUnavailable, Trouble
from nestrel.store import addresses

log = structlog.get_logger()

_LOOK_SECONDS = 1.0

_MISSING = {
    Trouble.AWAY: "no database answers at {where}: start it, or set NESTREL_DATABASE_URL to where it is",
    Trouble.BUSY: "the database at {where} takes no more connections",
    Trouble.NO_SCHEMA: "{detail}",
    Trouble.NO_RIGHTS: "the role of the database at {where} may not do what serving takes: run nestrel db roles",
    Trouble.READ_ONLY: "the database at {where} takes no writes: it is a standby, or set to be read only",
    Trouble.UNFIT: "{detail}",
}
"""For whoever runs the service: what clients are told is about their requests."""


async def until_served(url: str, ready: Callable[[], Awaitable[None]]) -> None:
    """Wait until `ready` raises nothing any more. The log says what it waits for, once for each reason."""
    told: object = None
    while True:
        try:
            await ready()
        except StoreUnavailable as problem:
            words = _MISSING.get(problem.reason, "{detail}") if problem.reason is not None else "{detail}"
            missing = words.format(where=addresses.shown(url), detail=problem.detail)
            if (problem.reason or missing) != told:
                cause = problem.__cause__
                log.warning("store.waited_for", missing=missing, cause=str(cause).splitlines()[0] if cause else None)
                told = problem.reason or missing
            await asyncio.sleep(_LOOK_SECONDS)
        else:
            if told is not None:
                log.info("store.serves")
            return
