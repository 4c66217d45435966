"""The session of a browser: a cookie (RFC 6265) for what cannot send a header: an EventSource, a picture, a
WebSocket."""

from __future__ import annotations

import os
import re
import time

from nestrel.core.cursors import CursorSeal, Session
from nestrel.core.problems import Forbidden, Unauthenticated
from nestrel.service.hosts import Hosts, host_of, is_loopback
from nestrel.service.tokens import Identity

_ID_BYTES = 12
_SAFE = ("GET", "HEAD")
_VALUE = re.compile(r"[\x21\x23-\x2b\x2d-\x3a\x3c-\x5b\x5d-\x7e]{1,2048}")
"""The octets of a cookie's value (RFC 6265, 4.1.1), without the quotes that it may stand in: ours never does."""


def name_for(host: str) -> str:
    """What the cookie is called for a `Host` header. The prefix makes browsers hold to what it says; on this machine,
    where there is no TLS, they would not take it."""
    return "nestrel" if _local(host) else "__Host-nestrel"


def made(seal: CursorSeal, identity: Identity, host: str, longest: int) -> str:
    """The `Set-Cookie` of a new session for who has signed in, which lasts as long as the token, and `longest` seconds
    at most. It seals whose it is, from when and until when, and by which key the token was verified: never the token
    itself, nor a backend's scope."""
    now = time.time()
    until = min(identity.expires_at, now + longest)
    sealed = Session(identity.user_id, os.urandom(_ID_BYTES), identity.issued_at, until, identity.key)
    return _set(host, seal.session(sealed), max(0, int(until - now)))


def gone(host: str) -> str:
    """The `Set-Cookie` that takes it away."""
    return _set(host, "", 0)


def read(header: str, host: str) -> str | None:
    """The session in a `Cookie` header, if there is one. It is read in one pass, and nothing in it is unquoted: who
    sends it is not known yet, and the standard library's parser takes seconds for 30 KB of backslashes."""
    name = name_for(host) + "="
    for pair in header.split(";"):
        text = pair.strip(" \t")
        if text.startswith(name) and _VALUE.fullmatch(text, len(name)):
            return text[len(name) :]
    return None


def opened(seal: CursorSeal, value: str) -> Identity:
    """Whose a session is. Raises `Unauthenticated` for one that is none, or is over."""
    try:
        found = seal.open_session(value)
    except ValueError:
        raise Unauthenticated("the session cookie is not one of this service; make a new one") from None
    if found.expires_at <= time.time():
        raise Unauthenticated("the session is over; make a new one")
    return Identity(
        found.user_id, None, None, service=False, expires_at=found.expires_at, issued_at=found.issued_at,
        session=found.id, key=found.key,
    )  # fmt: skip


def check_origin(hosts: Hosts, method: str, origin: str | None, host: str, scheme: str) -> None:
    """A browser sends the cookie for whoever's page asks: what changes something has to come from the service's own.
    Raises `Forbidden`."""
    if method in _SAFE:
        return
    if origin is None or not hosts.same_origin(origin, host, scheme):
        raise Forbidden("with a session cookie this has to come from the service's own pages (Origin); add others to "
                        "NESTREL_ORIGINS, or send a bearer token")  # fmt: skip


def _set(host: str, value: str, seconds: int) -> str:
    secure = "" if _local(host) else "; Secure"
    return f"{name_for(host)}={value}; Path=/; Max-Age={seconds}; HttpOnly; SameSite=Strict{secure}"


def _local(host: str) -> bool:
    name = host_of(host)
    return name == "localhost" or is_loopback(name)
