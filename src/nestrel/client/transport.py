"""One HTTP exchange after another: retries, problem documents, and what a driver's errors mean."""

from __future__ import annotations

import asyncio
import random
from collections.abc import AsyncGenerator, AsyncIterable, Awaitable, Callable
from typing import Any

import httpx
import orjson

from nestrel.client.errors import read_json
from nestrel.core.backoff import delays, pause_after
from nestrel.core.problems import Problem, SlowDown, StoreUnavailable, Unreachable, from_document

TokenSource = str | Callable[[], str] | Callable[[], Awaitable[str]]


async def token_of(source: TokenSource) -> str:
    """The token now: the text itself, or what the caller's function gives."""
    if isinstance(source, str):
        return source
    token = source()
    return token if isinstance(token, str) else await token


class Transport:
    """Sends requests to one service. A request marked `repeatable` is sent again, with growing pauses, when the
    service is away, the store is away, or it says to slow down; at most `tries` times in all."""

    def __init__(
        self,
        base_url: str,
        token: TokenSource,
        *,
        tries: int,
        timeout: float,
        transport: httpx.AsyncBaseTransport | None,
    ) -> None:
        self.token = token
        self._tries = tries
        # Reading the machine's certificates takes as long as ten requests; without TLS nobody looks at them.
        self._http = httpx.AsyncClient(
            base_url=base_url.rstrip("/") + "/v1",
            timeout=timeout,
            transport=transport,
            verify=not base_url.startswith("http://"),
        )

    async def close(self) -> None:
        await self._http.aclose()

    async def json(
        self,
        method: str,
        path: str,
        *,
        body: Any = None,
        lines: bytes | None = None,
        stream: Callable[[], AsyncIterable[bytes]] | None = None,
        params: dict[str, Any] | None = None,
        headers: dict[bytes, bytes] | None = None,
        repeatable: bool = False,
    ) -> Any:
        """The JSON of the answer, None for an empty one. `body` is sent as JSON, `lines` as JSON Lines, `stream` as it
        comes, and anew for each try.

        Raises:
            Problem: the service refuses.
            Unreachable: it does not answer, or not with JSON.
        """
        content = await self.content(
            method, path, body=body, lines=lines, stream=stream, params=params, headers=headers, repeatable=repeatable
        )
        return read_json(content) if content else None

    async def content(
        self,
        method: str,
        path: str,
        *,
        body: Any = None,
        lines: bytes | None = None,
        stream: Callable[[], AsyncIterable[bytes]] | None = None,
        params: dict[str, Any] | None = None,
        headers: dict[bytes, bytes] | None = None,
        repeatable: bool = False,
    ) -> bytes:
        """The answer as it came. Raises as `json`."""
        content: bytes | AsyncIterable[bytes] | None = lines
        if lines is not None:
            headers = {**(headers or {}), b"Content-Type": b"application/jsonl"}
        elif body is not None:
            headers = {**(headers or {}), b"Content-Type": b"application/json"}
            content = orjson.dumps(body)
        pauses = delays(random.random)
        for left in range(self._tries - 1, -1, -1):
            if stream is not None:
                content = stream()
            try:
                return await self._once(method, path, content, params, headers)
            except (Unreachable, StoreUnavailable, SlowDown) as error:
                if not repeatable or left == 0:
                    raise
                await asyncio.sleep(pause_after(error, next(pauses), random.random))
        raise AssertionError("a client tries at least once")

    async def _once(
        self,
        method: str,
        path: str,
        content: bytes | AsyncIterable[bytes] | None,
        params: dict[str, Any] | None,
        headers: dict[bytes, bytes] | None,
    ) -> bytes:
        sent = await self._headers(headers)
        known = {name: value for name, value in (params or {}).items() if value is not None}
        try:
            answer = await self._http.request(method, path, params=known, headers=sent, content=content)
        except httpx.HTTPError as error:
            raise self._unreachable(error, changing=method not in ("GET", "HEAD")) from error
        if answer.is_success:
            return answer.content
        raise _refusal(answer)

    async def stream(self, method: str, path: str, params: dict[str, Any], seconds: float) -> AsyncGenerator[bytes]:
        """The answer in chunks as they come; `seconds` is the longest wait for one of them. Raises as `json`, also in
        the middle: what came before is then not the whole."""
        sent = await self._headers(None)
        try:
            async with self._http.stream(method, path, params=params, headers=sent, timeout=seconds) as answer:
                if not answer.is_success:
                    await answer.aread()
                    raise _refusal(answer)
                async for chunk in answer.aiter_bytes():
                    yield chunk
        except httpx.HTTPError as error:
            raise self._unreachable(error) from error

    async def head(self, path: str) -> httpx.Headers:
        """The headers of what lies at an address. Raises as `json`."""
        try:
            answer = await self._http.head(path, headers=await self._headers(None))
        except httpx.HTTPError as error:
            raise self._unreachable(error) from error
        if answer.is_success:
            return answer.headers
        raise _refusal(await self._http.get(path, headers=await self._headers(None)))  # which says why

    async def ranged(self, path: str) -> AsyncGenerator[bytes]:
        """The bytes at an address, in chunks; after a break the rest of the same (RFC 9110, 14). Raises as `json`."""
        came, etag, pauses, left = 0, None, delays(random.random), self._tries - 1
        while True:
            more = {b"Range": b"bytes=%d-" % came, b"If-Range": etag} if came and etag else None
            before = came
            try:
                async with self._http.stream("GET", path, headers=await self._headers(more)) as answer:
                    if answer.status_code == 416 and came:
                        return  # all of it had come
                    if not answer.is_success:
                        await answer.aread()
                        raise _refusal(answer)
                    if came and answer.status_code != 206:
                        raise Unreachable("what is being fetched has changed meanwhile; fetch it again")
                    etag = answer.headers.get("etag", "").encode() or None
                    async for chunk in answer.aiter_raw():
                        came += len(chunk)
                        yield chunk
                    return
            except httpx.HTTPError as error:
                if left == 0 or (came and etag is None):
                    raise self._unreachable(error) from error
                pause = next(pauses)
            except (StoreUnavailable, SlowDown) as error:
                if left == 0:
                    raise
                pause = pause_after(error, next(pauses), random.random)
            left = self._tries - 1 if came > before else left - 1
            await asyncio.sleep(pause)

    async def _headers(self, headers: dict[bytes, bytes] | None) -> dict[bytes, bytes]:
        # Bytes, so that a key of any script goes out as its UTF-8.
        return {**(headers or {}), b"Authorization": f"Bearer {await token_of(self.token)}".encode()}

    def _unreachable(self, error: httpx.HTTPError, *, changing: bool = False) -> Unreachable:
        where = self._http.base_url.netloc.decode()
        unsure = changing and not isinstance(error, httpx.ConnectError | httpx.ConnectTimeout)
        return Unreachable(f"{where} does not answer: {error or type(error).__name__}", unsure=unsure)


def _refusal(answer: httpx.Response) -> Problem | Unreachable:
    try:
        document = orjson.loads(answer.content)
        return from_document(document, answer.status_code)
    except (orjson.JSONDecodeError, AttributeError):
        return Unreachable(f"{answer.url} answered {answer.status_code} and no problem document")
