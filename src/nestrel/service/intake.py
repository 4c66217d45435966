"""How much a route reads, and which rate it counts for. The route itself says so: an id may end in anything, so the end
of a path says nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from enum import StrEnum
from re import Pattern
from typing import Any, NamedTuple, TypeVar

from fastapi.routing import APIRoute
from starlette.routing import compile_path

from nestrel.core import limits

F = TypeVar("F", bound=Callable[..., Any])

_MARK = "nestrel_intake"


class Counted(StrEnum):
    """What a request is taken for by a member's rates."""

    BY_METHOD = "by method"
    """A read where it only asks (GET, HEAD), else a command."""
    READ = "read"
    """It asks with a body."""
    ITSELF = "itself"
    """It counts what it holds."""


class Intake(NamedTuple):
    """The most bytes of a body; None for a file, which is streamed and has a limit of its own. `keyed`: it honours an
    idempotency key."""

    most: int | None = limits.REQUEST_BYTES
    counted: Counted = Counted.BY_METHOD
    keyed: bool = False

    @property
    def streamed(self) -> bool:
        return self.most is None


_PLAIN = Intake()


def takes(
    most: int | None = limits.REQUEST_BYTES, counted: Counted = Counted.BY_METHOD, *, keyed: bool = False
) -> Callable[[F], F]:
    """Mark an endpoint with what it takes, where that is not what others do."""

    def mark(endpoint: F) -> F:
        setattr(endpoint, _MARK, Intake(most, counted, keyed))
        return endpoint

    return mark


def intake_of(endpoint: Any) -> Intake:
    """What an endpoint takes."""
    found: Intake = getattr(endpoint, _MARK, _PLAIN)
    return found


class Intakes:
    """What is taken at an address, before a request has been led to its route."""

    def __init__(self, routes: Iterable[tuple[str, APIRoute]]) -> None:
        self._marked: dict[str, list[tuple[Pattern[str], Intake]]] = {}
        for path, route in routes:
            intake = intake_of(route.endpoint)
            if intake is not _PLAIN:
                for method in route.methods or ():
                    self._marked.setdefault(method, []).append((compile_path(path)[0], intake))

    def at(self, method: str, path: str) -> Intake:
        for regex, intake in self._marked.get(method, ()):
            if regex.match(path):
                return intake
        return _PLAIN
