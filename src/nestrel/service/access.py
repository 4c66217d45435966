"""The actions that routes and frames perform. A route or frame without one is refused at start."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, TypeVar

from fastapi.routing import APIRoute

from nestrel.core.rights import Action

F = TypeVar("F", bound=Callable[..., Any])

Routes = Iterable[tuple[str, APIRoute]]
Frames = Iterable[tuple[str, frozenset[Action]]]

_MARK = "nestrel_actions"


def does(*actions: Action) -> Callable[[F], F]:
    """Mark an endpoint with what it is for; where that depends on the request, with each."""

    def mark(endpoint: F) -> F:
        setattr(endpoint, _MARK, frozenset(actions))
        return endpoint

    return mark


def actions_of(endpoint: Any) -> frozenset[Action]:
    """What an endpoint is for; nothing for one that has not said it."""
    found: frozenset[Action] = getattr(endpoint, _MARK, frozenset())
    return found


def check_all(routes: Routes, frames: Frames) -> None:
    """Refuse to start with a door that has not said what it is for. Raises `RuntimeError`."""
    nameless = [path for path, route in routes if not actions_of(route.endpoint)]
    nameless += [name for name, actions in frames if not actions]
    if nameless:
        raise RuntimeError(f"no action of nestrel.core.rights is named for {', '.join(nameless)}")
