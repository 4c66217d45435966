"""How long to wait before trying again: exponential with full jitter, and what the service has said of it. The one
policy of every client; docs/vectors/pauses.json has it for those in other languages."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from nestrel.core.problems import Problem, Unreachable

_FIRST_SECONDS = 0.1
_MOST_SECONDS = 10.0
SPREAD_SECONDS = 10.0
"""When a process stops, all who were connected to it come back within so long, and not at one moment."""


def delays(random: Callable[[], float]) -> Iterator[float]:
    """Endless pauses in seconds. `random` gives numbers from 0 to 1; no pause is below a fifth of its step."""
    step = _FIRST_SECONDS
    while True:
        yield step * (0.2 + 0.8 * random())
        step = min(_MOST_SECONDS, step * 2)


def pause_after(error: Exception, step: float, random: Callable[[], float]) -> float:
    """How long to wait after an error: the next of the `delays`, or longer where the service has said so."""
    if isinstance(error, Unreachable) and error.leaving:
        return max(step, SPREAD_SECONDS * random())
    if isinstance(error, (Unreachable, Problem)) and error.retry_after is not None:
        return max(step, error.retry_after * (1 + 0.2 * random()))  # others were told the same at the same moment
    return step
