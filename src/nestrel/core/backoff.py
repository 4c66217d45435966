"""How long to wait before trying again: exponential with full jitter, as a pure generator."""

from __future__ import annotations

from collections.abc import Callable, Iterator


def delays(random: Callable[[], float], *, first: float = 0.1, most: float = 10.0) -> Iterator[float]:
    """Endless pauses in seconds. `random` gives numbers from 0 to 1; no pause is below a fifth of its step."""
    step = first
    while True:
        yield step * (0.2 + 0.8 * random())
        step = min(most, step * 2)
