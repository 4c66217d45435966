"""The address of a Redis, also of one behind Sentinels, with passwords and over TLS."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import parse_qsl, unquote, urlsplit

_SENTINEL_PORT = 26379
_DIRECT = ("redis", "rediss")
_BEHIND = ("redis+sentinel", "rediss+sentinel")
_OPTIONS = {"username", "password", "db", "ssl_ca_certs", "ssl_certfile", "ssl_keyfile"}


@dataclass(frozen=True, slots=True)
class Behind:
    """A server that Sentinels know by a `name`: their addresses, `user` and `password` for them, and what the server
    and TLS want."""

    sentinels: tuple[tuple[str, int], ...]
    name: str
    user: str | None
    password: str | None
    tls: bool
    options: dict[str, str]


def parse(url: str) -> Behind | None:
    """Check an address; None for one that leads to the server itself.

    `redis://[user:password@]host[:port][/db]`, with `rediss` over TLS, whose authorities are the machine's or those of
    `?ssl_ca_certs=FILE`. Behind Sentinels `redis+sentinel://[user:password@]host[:port],host[:port]/name`: the server
    that they give for that name; user and password are then the Sentinels' own, and the server's are in
    `?username=&password=&db=`.

    Raises:
        ValueError: the address is none of these; the text says what is wrong, without the password.
    """
    scheme, separator, _ = url.partition("://")
    if not separator or scheme not in _DIRECT + _BEHIND:
        raise ValueError("must be postgres or a redis:// address")
    parts = urlsplit(url)
    if scheme in _DIRECT:
        _host(parts.netloc.rpartition("@")[2] or "localhost")
        return None
    name, options = parts.path.strip("/"), dict(parse_qsl(parts.query))
    credentials, _, hosts = parts.netloc.rpartition("@")
    if not name or not hosts:
        raise ValueError("must name the Sentinels and the server: redis+sentinel://host:26379,host:26379/name")
    if unknown := sorted(options.keys() - _OPTIONS):
        raise ValueError(f"does not take {', '.join(unknown)}; it takes {', '.join(sorted(_OPTIONS))}")
    user, _, password = (unquote(part) for part in credentials.partition(":"))
    sentinels = tuple(_host(one) for one in hosts.split(","))
    return Behind(sentinels, name, user or None, password or None, scheme.startswith("rediss"), options)


def _host(text: str) -> tuple[str, int]:
    """A host and its port. An IPv6 address stands in brackets (RFC 3986, 3.2.2)."""
    try:
        parts = urlsplit(f"//{text}")
        host, port = parts.hostname, parts.port
    except ValueError:
        host, port = None, None
    if not host:
        raise ValueError(f"must name a host and a port, not {text!r}")
    return host, port or _SENTINEL_PORT
