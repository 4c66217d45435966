"""Requests of the service's own to addresses that others have set: each goes where it may, and nowhere else.

A name is resolved once, what it resolves to is checked, and it is that address which is connected to; redirects are not
followed, and no more is read of an answer than one needs to know.
"""

from __future__ import annotations

import asyncio
import contextlib
import socket
import time
from collections.abc import Awaitable, Callable, Iterable, Mapping
from ipaddress import ip_address
from typing import NamedTuple

import httpcore

from nestrel.core.targets import Address, Allowed, Target, check, parse

SECONDS = 15.0
"""How long a request may take, with all that belongs to it."""
_CONNECT_SECONDS = 5.0
_REST_SECONDS = 1.0
_REST_BYTES = 16 * 1024
"""What is read of an answer's body, so that its connection can be used again."""
_TRIED = 3
_WAIT_MOST = 3_600.0

Resolve = Callable[[str, int], Awaitable[list[Address]]]


class Answer(NamedTuple):
    """What came of a request: the status, if one came; else why none did. `wait` is how many seconds it asks for."""

    status: int | None
    ms: int
    error: str | None = None
    wait: float = 0.0

    @property
    def taken(self) -> bool:
        return self.status is not None and 200 <= self.status < 300


async def resolved(host: str, port: int) -> list[Address]:
    """The addresses of a name. Raises `OSError` where it has none."""
    found = await asyncio.get_running_loop().getaddrinfo(host, port, type=socket.SOCK_STREAM)
    return list(dict.fromkeys(ip_address(str(one[4][0]).partition("%")[0]) for one in found))


class _Checked(httpcore.AsyncNetworkBackend):
    """Connects to what a name resolves to, if all of it may be asked."""

    def __init__(self, allowed: Allowed, resolve: Resolve) -> None:
        self._allowed = allowed
        self._resolve = resolve
        self._inner = httpcore.AnyIOBackend()

    async def connect_tcp(
        self,
        host: str,
        port: int,
        timeout: float | None = None,  # noqa: ASYNC109 - the interface has it so
        local_address: str | None = None,
        socket_options: Iterable[httpcore.SOCKET_OPTION] | None = None,
    ) -> httpcore.AsyncNetworkStream:
        try:
            addresses = [ip_address(host)]
        except ValueError:
            async with asyncio.timeout(_CONNECT_SECONDS):
                addresses = await self._resolve(host, port)
        for address in addresses:
            check(address, host, self._allowed)
        failure: Exception = httpcore.ConnectError(f"{host} has no address")
        for address in addresses[:_TRIED]:
            try:
                return await self._inner.connect_tcp(str(address), port, timeout, local_address, socket_options)
            except (httpcore.ConnectError, httpcore.ConnectTimeout) as error:
                failure = error
        raise failure

    async def sleep(self, seconds: float) -> None:
        await asyncio.sleep(seconds)


class Outbound:
    """Keeps connections to those who are sent to often."""

    def __init__(self, allowed: Allowed, resolve: Resolve = resolved) -> None:
        self.allowed = allowed
        self._pool = httpcore.AsyncConnectionPool(
            max_connections=200,
            max_keepalive_connections=50,
            keepalive_expiry=30,
            network_backend=_Checked(allowed, resolve),
        )

    async def post(self, url: str, headers: Mapping[str, str], body: bytes) -> Answer:
        """Send one request and say what came of it; it raises nothing but a cancellation."""
        begun = time.monotonic()
        status, error, wait = None, None, 0.0
        try:
            async with asyncio.timeout(SECONDS):
                status, wait = await self._ask(parse(url, self.allowed), headers, body)
        except (TimeoutError, httpcore.TimeoutException):
            error = f"did not answer within {SECONDS:g} s"
        except ValueError as refused:
            error = str(refused)
        except socket.gaierror:
            error = "its name does not resolve"
        except (OSError, httpcore.NetworkError, httpcore.ProtocolError) as failure:
            error = f"could not be reached: {str(failure) or type(failure).__name__}"[:300]
        if status is not None and not 200 <= status < 300:
            error = f"answered {status}" + ("; redirects are not followed" if 300 <= status < 400 else "")
        return Answer(status, round((time.monotonic() - begun) * 1000), error, wait)

    async def _ask(self, target: Target, headers: Mapping[str, str], body: bytes) -> tuple[int, float]:
        url = httpcore.URL(
            scheme=b"https" if target.tls else b"http", host=target.host.encode(), port=target.port, target=target.path
        )
        plain = target.port == (443 if target.tls else 80)
        host = f"[{target.host}]" if ":" in target.host else target.host
        sent = {"host": host if plain else f"{host}:{target.port}", "content-length": str(len(body)), **headers}
        timeouts = {"connect": _CONNECT_SECONDS, "read": SECONDS, "write": SECONDS, "pool": SECONDS}
        request = httpcore.Request(
            "POST", url, headers=list(sent.items()), content=body, extensions={"timeout": timeouts}
        )
        response = await self._pool.handle_async_request(request)
        try:
            await self._read_off(response)
        finally:
            await response.aclose()
        return response.status, _asked_to_wait(response)

    async def _read_off(self, response: httpcore.Response) -> None:
        """Its status is what counts; of the rest as much as there is, if that is little and comes soon."""
        read = 0
        broken = (TimeoutError, httpcore.NetworkError, httpcore.ProtocolError, httpcore.TimeoutException)
        with contextlib.suppress(*broken):
            async with asyncio.timeout(_REST_SECONDS):
                async for part in response.aiter_stream():
                    read += len(part)
                    if read > _REST_BYTES:
                        return

    async def close(self) -> None:
        await self._pool.aclose()


def _asked_to_wait(response: httpcore.Response) -> float:
    """`Retry-After` in seconds (RFC 9110, 10.2.3)."""
    for name, value in response.headers:
        if name.lower() == b"retry-after" and value.isdigit():
            return min(float(value[:9]), _WAIT_MOST)
    return 0.0
