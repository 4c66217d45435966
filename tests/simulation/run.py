"""One schedule, from its seed."""

from __future__ import annotations

import asyncio
from typing import Any

from tests.simulation.clock import VirtualLoop
from tests.simulation.world import World


def run(seed: int, steps: int = 24) -> None:
    """Raises `AssertionError`, with the seed, when a promise is broken."""
    loop = VirtualLoop()
    failures: list[BaseException] = []

    def failed(_loop: object, context: dict[str, Any]) -> None:
        failures.append(context.get("exception") or RuntimeError(context["message"]))

    loop.set_exception_handler(failed)
    try:
        loop.run_until_complete(_run(seed, steps))
        if failures:
            raise failures[0]
    except BaseException as error:
        raise AssertionError(f"seed {seed}: {error or type(error).__name__}") from error
    finally:
        loop.run_until_complete(stop())
        loop.close()


async def stop() -> None:
    """Nothing of a schedule is left for the next one."""
    tasks = asyncio.all_tasks() - {asyncio.current_task()}
    for task in tasks:
        task.cancel()
    await asyncio.gather(*tasks, return_exceptions=True)


async def _run(seed: int, steps: int) -> None:
    await World(seed).run(steps)
