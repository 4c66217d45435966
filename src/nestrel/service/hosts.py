"""The host names that the service answers to, the origins whose pages may connect, and the proxies that are trusted
with a caller's address."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable, MutableMapping, Sequence
from typing import Any
from urllib.parse import urlsplit

from nestrel.service.origins import Origins

_LOOPBACK = ("localhost", "127.0.0.1", "::1")

_PAGES = {"ws": "http", "wss": "https"}
"""The scheme of a page that opens a WebSocket."""

Network = ipaddress.IPv4Network | ipaddress.IPv6Network


def host_of(header: str) -> str:
    """The name of a `Host` header (RFC 9110, 7.2) without its port, in lower case."""
    name = header.strip().lower()
    if name.startswith("["):
        return name[1:].partition("]")[0]
    return name.rpartition(":")[0] if re.search(r":\d*$", name) else name


def is_loopback(address: str) -> bool:
    """Whether an address is this machine's own."""
    try:
        return ipaddress.ip_address(address).is_loopback
    except ValueError:
        return False


class Hosts:
    """The names of this service. One that listens on loopback alone, with no other name told, answers to loopback's
    names: a page that has its own name resolve to this machine is not let in. One that listens elsewhere answers to
    any name unless some are told."""

    def __init__(self, listens_on: str, names: Iterable[str], public_url: str | None, origins: Iterable[str]) -> None:
        self.origins = Origins(origins)
        public = urlsplit(public_url) if public_url else None
        told = {name.lower() for name in names} | ({public.hostname} if public and public.hostname else set())
        loopback = listens_on in _LOOPBACK or listens_on.startswith("127.")
        self._names: set[str] | None = None
        if told or loopback:
            self._names = {*told, *_LOOPBACK, listens_on.lower()}
        self._public = f"{public.scheme}://{public.netloc}".lower() if public is not None else None

    def answers_to(self, header: str) -> bool:
        """Whether a request with this `Host` is for this service."""
        if self._names is None:
            return True
        name = host_of(header)
        return name in self._names or is_loopback(name)

    def same_origin(self, origin: str, host: str, scheme: str) -> bool:
        """Whether a page of an origin (RFC 6454) may act here by a session: one that is named, or its own. That is the
        public address, and where none is told the request's `Host`, by the scheme that it came with."""
        if self.origins.named(origin):
            return True
        own = self._public or f"{_PAGES.get(scheme, scheme)}://{host.strip().lower()}"
        return origin.lower().rstrip("/") == own


class Proxies:
    """Whose `Forwarded` (RFC 7239) and `X-Forwarded-*` headers are believed: those of these networks alone."""

    def __init__(self, networks: Sequence[Network]) -> None:
        self._networks = networks

    def trusts(self, address: str) -> bool:
        """Whether an address is a proxy of one's own."""
        try:
            found = ipaddress.ip_address(address)
        except ValueError:
            return False
        return any(found in network for network in self._networks)

    def look_behind(self, scope: MutableMapping[str, Any]) -> None:
        """Make the client of an ASGI scope the one that a proxy of one's own speaks for, and its scheme the one that
        the proxy was asked by."""
        if self._networks and scope["client"] is not None:
            peer, port = scope["client"]
            scope["client"] = (self.client_of(peer, scope["headers"]), port)
            if self.trusts(peer) and (told := _scheme(scope["headers"])) is not None:
                secure = told == "https"
                scope["scheme"] = ("wss" if secure else "ws") if scope["type"] == "websocket" else told

    def client_of(self, peer: str, headers: Sequence[tuple[bytes, bytes]]) -> str:
        """The address of the caller: the last one that no proxy of one's own has."""
        if not self._networks or not self.trusts(peer):
            return peer
        hops = [hop for name, value in headers for hop in _hops(name, value.decode("latin-1"))]
        for hop in reversed(hops):
            if not self.trusts(hop):
                return hop
        return hops[0] if hops else peer


def _scheme(headers: Sequence[tuple[bytes, bytes]]) -> str | None:
    """How the nearest proxy was asked, if it says so."""
    told = None
    for name, raw in headers:
        value = raw.decode("latin-1").lower()
        if name == b"x-forwarded-proto":
            told = value.rpartition(",")[2].strip()
        elif name == b"forwarded":
            found = re.findall(r'proto="?([a-z]+)"?', value)
            told = found[-1] if found else told
    return told if told in ("http", "https") else None


def _hops(name: bytes, value: str) -> list[str]:
    if name == b"x-forwarded-for":
        return [_bare(part) for part in value.split(",")]
    if name == b"forwarded":
        return [_bare(found) for found in re.findall(r'for="?([^";,]+)"?', value, re.IGNORECASE)]
    return []


def _bare(address: str) -> str:
    """An address without brackets and port."""
    address = address.strip()
    if address.startswith("["):
        return address[1:].partition("]")[0]
    return address.partition(":")[0] if address.count(":") == 1 else address
