"""`python -m bench.beside PORT PLACE`: posts at a rate, in a process of their own, so that what else the load does is
not in their time. When its standard input ends it says in JSON how many seconds each took."""

from __future__ import annotations

import asyncio
import sys
import time

import httpx
import orjson

from bench.harness import token

_POSTS_SECOND = 20.0


async def main(port: int, place: str) -> list[float]:
    took: list[float] = []
    url = f"http://127.0.0.1:{port}/v1/conversations/{place}/messages"
    async with httpx.AsyncClient(headers={"Authorization": f"Bearer {token('harbour-office')}"}, timeout=120) as http:

        async def one() -> None:
            at = time.perf_counter()
            (await http.post(url, json={"body": "beside"})).raise_for_status()
            took.append(time.perf_counter() - at)

        over = asyncio.ensure_future(asyncio.to_thread(sys.stdin.read))
        tasks: set[asyncio.Task[None]] = set()
        begun = time.perf_counter()
        while not over.done():
            tasks.add(asyncio.create_task(one()))
            await asyncio.sleep(max(0.0, begun + len(tasks) / _POSTS_SECOND - time.perf_counter()))
        await asyncio.gather(*tasks)
    return took


if __name__ == "__main__":
    sys.stdout.write(orjson.dumps(asyncio.run(main(int(sys.argv[1]), sys.argv[2]))).decode())
