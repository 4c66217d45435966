"""`python -m bench.receiving PORT`: a receiver of webhooks that takes all, in a process of its own. `GET /` gives what
came since it was last asked: how many change sets, and how long after their messages were made."""

from __future__ import annotations

import asyncio
import sys
import time
from datetime import datetime

import orjson

_TAKEN = b"HTTP/1.1 204 No Content\r\n\r\n"


class _Seen:
    def __init__(self) -> None:
        self.requests = self.items = 0
        self.lags: list[float] = []

    def take(self, body: bytes) -> None:
        now = time.time()
        items = orjson.loads(body)["data"]["items"]
        self.requests += 1
        self.items += len(items)
        for item in items:
            for message in item.get("messages", ()):
                self.lags.append((now - datetime.fromisoformat(message["created_at"]).timestamp()) * 1e3)

    def told(self) -> bytes:
        told = orjson.dumps({"requests": self.requests, "items": self.items, "lags": self.lags})
        self.__init__()  # type: ignore[misc]  # begin anew
        return b"HTTP/1.1 200 OK\r\nContent-Length: %d\r\n\r\n" % len(told) + told


async def main(port: int) -> None:
    seen = _Seen()

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                head = (await reader.readuntil(b"\r\n\r\n")).lower()
                if head.startswith(b"get"):
                    writer.write(seen.told())
                    continue
                size = int(head.split(b"content-length:")[1].split(b"\r\n")[0])
                seen.take(await reader.readexactly(size))
                writer.write(_TAKEN)
        except (asyncio.IncompleteReadError, ConnectionError):
            writer.close()

    server = await asyncio.start_server(serve, "127.0.0.1", port)
    await server.serve_forever()


if __name__ == "__main__":
    asyncio.run(main(int(sys.argv[1])))
