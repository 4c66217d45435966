"""Files as answers, whole or in part, with the headers that keep a browser from taking them for anything else."""

from __future__ import annotations

from uuid import UUID

from fastapi import Request
from starlette.responses import Response
from starlette.types import Receive, Scope, Send

from nestrel.service import ranges
from nestrel.service.attachments import Asking
from nestrel.service.ranges import Part
from nestrel.service.state import Service
from nestrel.store import rows

_GUARDED = {
    "Accept-Ranges": "bytes",
    "Cache-Control": "private, no-cache",
    "Content-Security-Policy": "sandbox",
    "Cross-Origin-Resource-Policy": "same-origin",
}


def asking(request: Request, of: str, *, service: bool = False) -> Asking:
    """Who asks for files with a request."""
    scope = request.scope
    line = scope.get("nestrel.connection")
    # The server takes it from there when the connection is lost.
    return Asking(of, service, line, lambda: line is None or "nestrel.connection" in scope)


async def answer(
    service: Service, request: Request, asks: Asking, object_id: UUID, size: int, etag: str, headers: dict[str, str]
) -> Response:
    """The bytes of an object of that size, or what a condition or a range of the request leaves of them."""
    wanted = ranges.wanted(request.headers, etag, size)
    guarded = {**_GUARDED, "ETag": etag}
    if wanted.status == 304:
        return Response(status_code=304, headers=guarded)
    if wanted.status == 412:
        return _refused(412, "Precondition Failed", f"the attachment is {etag}", guarded)
    if wanted.status == 416:
        detail = f"there are {size:,} bytes; ask for some of them"
        return _refused(416, "Range Not Satisfiable", detail, {**guarded, "Content-Range": f"bytes */{size}"})
    headers = {**guarded, **headers, "Content-Length": str(wanted.end - wanted.start)}
    if wanted.status == 206:
        headers["Content-Range"] = f"bytes {wanted.start}-{wanted.end - 1}/{size}"
    if request.method == "HEAD":
        return Response(status_code=wanted.status, headers=headers)
    return _Streamed(service, object_id, wanted, headers, request, asks)


def _refused(status: int, title: str, detail: str, headers: dict[str, str]) -> Response:
    """A refusal that says no more than its status does (RFC 9457, 4.2.1)."""
    body = rows.dump({"type": "about:blank", "title": title, "status": status, "detail": detail})
    return Response(body, status, headers, "application/problem+json")


class _Streamed(Response):
    """Bytes as they are read, no faster than they are taken."""

    def __init__(
        self, service: Service, object_id: UUID, wanted: Part, headers: dict[str, str], request: Request, asks: Asking
    ) -> None:
        super().__init__(None, wanted.status, headers)
        self._service = service
        self._object_id = object_id
        self._wanted = wanted
        self._request = request
        self._asks = asks

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        wanted = self._wanted
        async with self._service.attachments.open(self._object_id, wanted.start, wanted.end, self._asks) as parts:
            await send({"type": "http.response.start", "status": self.status_code, "headers": self.raw_headers})
            async for part in parts:
                if await self._request.is_disconnected():
                    return
                await send({"type": "http.response.body", "body": part, "more_body": True})
            await send({"type": "http.response.body", "body": b"", "more_body": False})
