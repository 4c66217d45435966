"""The collector of one process: every few seconds it takes away files that no message has any more."""

from __future__ import annotations

import asyncio

import structlog

from nestrel.service.attachments import Attachments

log = structlog.get_logger()

_SECONDS = 2.0


async def collect(attachments: Attachments) -> None:
    """Collect for ever. Any number of processes do so at once, and go past what another has taken."""
    while True:
        try:
            await attachments.collect()
        except Exception as error:
            log.warning("collect.failed", reason=str(error))
        await asyncio.sleep(_SECONDS)
