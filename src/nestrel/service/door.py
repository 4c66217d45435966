"""Lets WebSockets in."""

from __future__ import annotations

from secrets import token_hex

from starlette.types import Receive, Scope, Send
from starlette.websockets import WebSocket

from nestrel.core.problems import Problem
from nestrel.service import problems, upgrade
from nestrel.service.socket import Session
from nestrel.service.state import Service


class Live:
    """The ASGI application behind `/v1/live`."""

    def __init__(self, service: Service) -> None:
        self._service = service

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        self._service.proxies.look_behind(scope)
        socket = WebSocket(scope, receive, send)
        try:
            arrival = await upgrade.arrival(self._service, socket)
        except Problem as problem:
            answer = problems.response(problem, request_id := token_hex(8))
            answer.headers["X-Request-ID"] = request_id
            await socket.send_denial_response(answer)
            connection = scope.get("nestrel.connection")
            if connection is not None:
                connection.denied()
            return
        await Session(self._service, socket, receive, send, arrival).run()
