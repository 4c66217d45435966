"""The session of a browser: a cookie (RFC 6265) for what cannot send a header: an EventSource, a picture, a
WebSocket."""

from __future__ import annotations

import os
import time
from http.cookies import CookieError, SimpleCookie

from nestrel.core.cursors import CursorSeal
from nestrel.core.problems import Forbidden, Unauthenticated
from nestrel.service.hosts import Hosts, host_of, is_loopback
from nestrel.service.tokens import Identity

_ID_BYTES = 12
_SAFE = ("GET", "HEAD")


def name_for(host: str) -> str:
    """What the cookie is called for a `Host` header. The prefix makes browsers hold to what it says; on this machine,
    where there is no TLS, they would not take it."""
    return "nestrel" if _local(host) else "__Host-nestrel"


def made(seal: CursorSeal, identity: Identity, host: str) -> str:
    """The `Set-Cookie` of a new session for who has signed in. It seals whose it is, and from when and until when the
    token is: never the token itself, nor a backend's scope."""
    value = seal.session(identity.user_id, os.urandom(_ID_BYTES), identity.issued_at, identity.expires_at)
    return _set(host, value, max(0, int(identity.expires_at - time.time())))


def gone(host: str) -> str:
    """The `Set-Cookie` that takes it away."""
    return _set(host, "", 0)


def read(header: str, host: str) -> str | None:
    """The session in a `Cookie` header, if there is one."""
    if "nestrel=" not in header:
        return None
    jar: SimpleCookie = SimpleCookie()
    try:
        jar.load(header)
    except CookieError:
        return None
    found = jar.get(name_for(host))
    return found.value if found is not None and found.value else None


def opened(seal: CursorSeal, value: str) -> Identity:
    """Whose a session is. Raises `Unauthenticated` for one that is none, or is over."""
    try:
        user_id, id_, issued_at, expires_at = seal.open_session(value)
    except ValueError:
        raise Unauthenticated("the session cookie is not one of this service; make a new one") from None
    if expires_at <= time.time():
        raise Unauthenticated("the session is over; make a new one")
    return Identity(user_id, user_id, None, service=False, expires_at=expires_at, issued_at=issued_at, session=id_)


def check_origin(hosts: Hosts, method: str, origin: str | None, host: str) -> None:
    """A browser sends the cookie for whoever's page asks: what changes something has to come from the service's own.
    Raises `Forbidden`."""
    if method in _SAFE:
        return
    if origin is None or not hosts.same_origin(origin, host):
        raise Forbidden("with a session cookie this has to come from the service's own pages (Origin); add others to "
                        "NESTREL_ORIGINS, or send a bearer token")  # fmt: skip


def _set(host: str, value: str, seconds: int) -> str:
    secure = "" if _local(host) else "; Secure"
    return f"{name_for(host)}={value}; Path=/; Max-Age={seconds}; HttpOnly; SameSite=Strict{secure}"


def _local(host: str) -> bool:
    name = host_of(host)
    return name == "localhost" or is_loopback(name)
