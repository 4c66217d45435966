"""How long to wait before trying again: exponential with full jitter, and what an error says of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from nestrel.core.problems import Unreachable


def delays(random: Callable[[], float], *, first: float = 0.1, most: float = 10.0) -> Iterator[float]:
    """Endless pauses in seconds. `random` gives numbers from 0 to 1; no pause is below a fifth of its step."""
    step = first
    while True:
        yield step * (0.2 + 0.8 * random())
        step = min(most, step * 2)


SPREAD_SECONDS = 10.0
"""When a process stops, all who were connected to it come back within so long, and not at one moment."""


def pause_after(error: Exception, step: float, random: Callable[[], float]) -> float:
    """How long to wait after an error: the next of the `delays`, or longer where the service has said so."""
    if not isinstance(error, Unreachable):
        return step
    if error.leaving:
        return max(step, SPREAD_SECONDS * random())
    if error.retry_after is not None:
        return max(step, error.retry_after * (1 + 0.2 * random()))
    return step
