"""The memory that a process may use for what comes and goes, and how much of it each person has."""

from __future__ import annotations

from dataclasses import dataclass

CONNECTION_BYTES = 36 * 1024
"""An idle WebSocket or stream, as `script/bench` measures it."""
FOLLOW_BYTES = 1024
"""One conversation followed by one connection."""


@dataclass(frozen=True, slots=True)
class Budget:
    """One budget in bytes, and its parts: what the hub keeps of conversations (`rings`), pages that are written
    already (`pages`), frames on their way to slow readers (`answers`), large bodies under way (`bodies`), and
    `connections` with all that they follow. A part that is full gives up what it has kept longest, or has the next one
    wait or come again; none takes from another."""

    total: int

    @property
    def rings(self) -> int:
        return self.total // 8

    @property
    def pages(self) -> int:
        return self.total // 16

    @property
    def answers(self) -> int:
        return self.total // 16

    @property
    def bodies(self) -> int:
        return self.total * 3 // 16

    @property
    def connections(self) -> int:
        return self.total - self.rings - self.pages - self.answers - self.bodies


def of_connections(connections: int, follows: int) -> int:
    """The bytes that connections take, and the follows of all of them."""
    return connections * CONNECTION_BYTES + follows * FOLLOW_BYTES
