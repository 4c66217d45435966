"""Makes tokens for development and scripts. It needs nothing else of the service."""

from __future__ import annotations

import jwt

SERVICE_SCOPE = "nestrel.service"


def mint(secret: str, user_id: str, *, seconds: int, now: int, issuer: str | None = None, audience: str | None = None,
         name: str | None = None, picture: str | None = None, scope: str | None = None) -> str:  # fmt: skip
    """A HS256 token (RFC 7519) for development and scripts; `now` in seconds since 1970."""
    claims = {"sub": user_id, "iat": now, "exp": now + seconds, "name": name, "picture": picture, "scope": scope,
              "iss": issuer, "aud": audience}  # fmt: skip
    return jwt.encode({key: value for key, value in claims.items() if value is not None}, secret, "HS256")
