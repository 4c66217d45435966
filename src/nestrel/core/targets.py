"""Where a request of the service's own may go: to the public internet, to what an operator has named, and to the
machine itself where somebody says so in as many words.

An address is checked twice: as it is written, when it is set, and as what its name resolves to, when it is sent to.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from urllib.parse import urlsplit

Address = IPv4Address | IPv6Address
Network = IPv4Network | IPv6Network

_CHARS = 2_000
_TLS = 443
_HIGH = 1_024
"""From here on a port is nobody's in particular; below it, only that of HTTPS is asked."""
_NAT64 = ip_network("64:ff9b::/96")
_SPECIAL = (ip_network("fec0::/10"), ip_network("3fff::/20"), ip_network("192.88.99.0/24"), ip_network("5f00::/16"))
"""Nobody's on the public internet, which Python's own table does not know in every version: addresses of a site
(RFC 3879), of documentation (RFC 9637), of relays that are gone (RFC 7526), of segment routing (RFC 9602)."""
_NUMERIC = re.compile(r"(0x[0-9a-f]*|[0-9]+)(\.(0x[0-9a-f]*|[0-9]+)){0,3}\.?", re.IGNORECASE)
_LABEL = r"[a-z0-9_]([a-z0-9_-]{0,61}[a-z0-9_])?"
_NAME = re.compile(rf"(?=.{{1,253}}$)({_LABEL}\.)*{_LABEL}")
_LOCAL = "localhost"


@dataclass(frozen=True, slots=True)
class Allowed:
    """What is allowed beside the public internet: host names, and networks; and whether this machine itself is, `here`,
    where whoever sets the address is trusted."""

    names: frozenset[str] = frozenset()
    networks: tuple[Network, ...] = ()
    here: bool = True

    @property
    def local(self) -> bool:
        """Whether `localhost` is."""
        return self.here or any(one.is_loopback for one in self.networks)

    @classmethod
    def parse(cls, parts: Sequence[str], *, here: bool = True) -> Allowed:
        """From host names and CIDRs. Raises `ValueError` with what is wrong."""
        names, networks = set(), []
        for part in parts:
            try:
                networks.append(ip_network(part))
            except ValueError:
                name = part.lower().rstrip(".")
                if not _NAME.fullmatch(name) or _NUMERIC.fullmatch(name):
                    raise ValueError(f"{part!r} is neither a host name nor a network like 10.0.0.0/8") from None
                names.add(name)
        return cls(frozenset(names), tuple(networks), here)


@dataclass(frozen=True, slots=True)
class Target:
    """An address that may be asked, if its name resolves to one that may."""

    host: str
    port: int
    tls: bool
    path: bytes
    literal: Address | None


def parse(url: str, allowed: Allowed) -> Target:
    """Read an address. Raises `ValueError` with what is wrong, for whoever set it."""
    if len(url) > _CHARS or not url.isascii() or re.search(r"[\x00-\x20\x7f\\]", url):
        raise ValueError("must be a URL of at most 2,000 characters of ASCII, without blanks (RFC 3986)")
    try:
        parts = urlsplit(url)
        host, port = (parts.hostname or "").lower().rstrip("."), parts.port
    except ValueError:
        raise ValueError("must be a URL, as in https://example.org/here (RFC 3986)") from None
    if parts.scheme not in ("http", "https") or not host:
        raise ValueError("must begin with https:// and a host")
    if "@" in parts.netloc:
        raise ValueError("must not hold a user or a password; requests are signed")
    if port == 0:
        raise ValueError("must not name port 0")
    literal = _literal(host)
    tls = parts.scheme == "https"
    here = (host == _LOCAL and allowed.local) or (allowed.here and literal is not None and literal.is_loopback)
    named = host in allowed.names or (literal is not None and any(literal in one for one in allowed.networks))
    if literal is None and not _NAME.fullmatch(host):
        raise ValueError(f"{host} is not the name of a host")
    if not tls and not here and not named:
        also = "this machine itself, and for " if allowed.here else ""
        raise ValueError(f"must begin with https://; http:// is for {also}hosts that are allowed")
    if literal is not None and not here:
        check(literal, host, allowed)
    port = port or (_TLS if tls else 80)
    if not (here or named) and port != _TLS and port < _HIGH:
        raise ValueError(f"port {port} is not asked; use 443, or one from {_HIGH:,} on")
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    return Target(host, port, tls, path.encode("ascii"), literal)


def check(address: Address, host: str, allowed: Allowed) -> None:
    """Whether an address that a host has may be asked. Raises `ValueError` where it may not."""
    bare = _bare(address)
    if host in allowed.names or any(bare in one for one in allowed.networks if one.version == bare.version):
        return
    if bare.is_loopback and (allowed.local if host == _LOCAL else allowed.here and _literal(host) is not None):
        return
    special = any(bare in one for one in _SPECIAL if one.version == bare.version)
    if special or not bare.is_global or bare.is_multicast or bare.is_reserved:
        raise ValueError(f"{host} is at {address}, which is not on the public internet; the operator may allow it")


def _literal(host: str) -> Address | None:
    """The address that a host is written as. Raises `ValueError` for one in a form that only some would read as one."""
    try:
        found = ip_address(host)
    except ValueError:
        if _NUMERIC.fullmatch(host):
            raise ValueError(f"{host} is not an address as it is usually written; use four decimal numbers") from None
        return None
    if isinstance(found, IPv6Address) and found.scope_id is not None:
        raise ValueError(f"{host} names a link of this machine")
    return found


def _bare(address: Address) -> Address:
    """What an address leads to: some of IPv6 stand for one of IPv4."""
    if isinstance(address, IPv4Address):
        return address
    if address in _NAT64:
        return IPv4Address(int(address) & 0xFFFFFFFF)
    inner = address.ipv4_mapped or address.sixtofour or (address.teredo and address.teredo[1])
    return inner or address
