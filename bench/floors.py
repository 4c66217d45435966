"""What Nestrel is measured against: the least that the same libraries can do without a store.

Run as a process of its own: `python -m bench.floors PORT`.
"""

from __future__ import annotations

import hashlib
import sys
from collections.abc import AsyncIterator
from typing import Annotated

import uvicorn
from fastapi import Depends, FastAPI, Request, WebSocket
from pydantic import BaseModel, SecretStr
from starlette.responses import Response, StreamingResponse
from starlette.websockets import WebSocketDisconnect

from bench.harness import SECRET
from nestrel.service.settings import Settings
from nestrel.service.tokens import Identity, TokenVerifier

_verifier = TokenVerifier(Settings(jwt_secret=SecretStr(SECRET)))


class Echo(BaseModel):
    body: str


async def identity(request: Request) -> Identity:
    return await _verifier.verify(request.headers["authorization"].removeprefix("Bearer "))


app = FastAPI()
_page = b""
_CHUNK = bytes(256 * 1024)
_sockets: set[WebSocket] = set()


@app.post("/echo", status_code=201)
async def echo(message: Echo, _who: Annotated[Identity, Depends(identity)]) -> Echo:
    return message


@app.put("/page")
async def set_page(request: Request) -> Response:
    global _page
    _page = await request.body()
    return Response()


@app.get("/page")
async def page(_who: Annotated[Identity, Depends(identity)]) -> Response:
    return Response(_page, media_type="application/json")


@app.post("/file")
async def take_file(
    request: Request, _who: Annotated[Identity, Depends(identity)], hashed: bool = False
) -> dict[str, int]:
    """A body that is streamed and dropped, also with its SHA-256 taken."""
    size, sha256 = 0, hashlib.sha256()
    async for chunk in request.stream():
        size += len(chunk)
        if hashed:
            sha256.update(chunk)
    return {"bytes": size}


@app.get("/file")
async def give_file(size: int, _who: Annotated[Identity, Depends(identity)]) -> StreamingResponse:
    """As many bytes as are asked for, streamed from memory."""

    async def chunks() -> AsyncIterator[bytes]:
        for start in range(0, size, len(_CHUNK)):
            yield _CHUNK[: size - start]

    return StreamingResponse(chunks())


@app.websocket("/broadcast")
async def broadcast(socket: WebSocket) -> None:
    """Whatever one client sends goes to all as it is."""
    await socket.accept()
    _sockets.add(socket)
    try:
        while True:
            text = (await socket.receive()).get("text")
            if text is None:
                return
            for other in tuple(_sockets):
                await other.send({"type": "websocket.send", "text": text})
    except WebSocketDisconnect:
        pass
    finally:
        _sockets.discard(socket)


if __name__ == "__main__":
    uvicorn.run(app, port=int(sys.argv[1]), loop="uvloop", http="httptools", ws="websockets-sansio",
                ws_per_message_deflate=False, log_level="error", access_log=False)  # fmt: skip
