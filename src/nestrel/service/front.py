"""The outermost application: it takes the busiest requests, and WebSockets, past the framework's own layers.

Those do nothing for a `DirectRoute`, and cost an eighth of a post and 5 KB of each connection that stays open.
"""

from __future__ import annotations

from collections.abc import Iterable

from fastapi import FastAPI
from starlette.routing import BaseRoute
from starlette.types import ASGIApp, Receive, Scope, Send

from nestrel.service.http import DirectRoute
from nestrel.service.intake import Intakes
from nestrel.service.middleware import Envelope
from nestrel.service.state import Service


async def _routed(scope: Scope, receive: Receive, send: Send) -> None:
    await scope["route"].app(scope, receive, send)


class Front:
    """Hands a request to its route, if that is a direct one, with all that `Envelope` does around each; a WebSocket
    to `live`; and everything else to the application."""

    def __init__(
        self, app: FastAPI, service: Service, routes: Iterable[BaseRoute], live: tuple[str, ASGIApp], intakes: Intakes
    ) -> None:
        self._app = app
        self._routed = Envelope(_routed, service, intakes)
        self._live_path, self._live = live
        self._routes: dict[tuple[str, str], DirectRoute] = {}
        for route in routes:
            assert isinstance(route, DirectRoute)
            for method in route.methods or ():
                self._routes[method, _end(route.path)] = route

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        kind = scope["type"]
        if kind == "http":
            route = self._routes.get((scope["method"], _end(scope["path"])))
            found = route.path_regex.match(scope["path"]) if route is not None else None
            if found is not None:
                scope.update(app=self._app, route=route, path_params=found.groupdict())
                await self._routed(scope, receive, send)
                return
        elif kind == "websocket" and scope["path"] == self._live_path:
            await self._live(scope, receive, send)
            return
        await self._app(scope, receive, send)


def _end(path: str) -> str:
    return path.rsplit("/", 1)[-1]
