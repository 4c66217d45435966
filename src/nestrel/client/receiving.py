"""What the receiver of a webhook does first: check that a request is the service's own, and of now."""

from __future__ import annotations

import base64
import binascii
import hmac
import time
from collections.abc import Mapping, Sequence
from typing import Any

import orjson

from nestrel.core.problems import NestrelError
from nestrel.core.webhooks import secret_of

_TOLERANCE_SECONDS = 300.0


class NotSigned(NestrelError):
    """A request is not signed with the secret, or is too old to be taken; answer it with 400 and do nothing else."""


def received(
    secrets: str | Sequence[str],
    headers: Mapping[str, str],
    body: bytes,
    *,
    tolerance: float = _TOLERANCE_SECONDS,
    now: float | None = None,
) -> dict[str, Any]:
    """What a request to a webhook says, once it is known to be genuine (Standard Webhooks).

    `secrets` is the webhook's, or several while it is changed; `headers` are the request's, in any case; `body` its
    bytes as they came. A request whose time differs from `now` by more than `tolerance` seconds is refused, so that an
    old one cannot be sent again by others.

    Raises:
        NotSigned: it is not genuine, or too old.
    """
    found = {name.lower(): value for name, value in headers.items()}
    try:
        id_, stamp = found["webhook-id"], found["webhook-timestamp"]
        signatures = found["webhook-signature"].split(" ")
        age = abs((time.time() if now is None else now) - int(stamp))
    except (KeyError, ValueError, OverflowError):
        raise NotSigned("the request has no webhook-id, webhook-timestamp and webhook-signature") from None
    if age > tolerance:
        raise NotSigned(f"the request is of {age:.0f} s ago; set the clock, or refuse it")
    text = f"{id_}.{stamp}.".encode() + body
    known = [secrets] if isinstance(secrets, str) else secrets
    marks = [hmac.digest(secret_of(secret), text, "sha256") for secret in known]
    for signature in signatures:
        version, _, packed = signature.partition(",")
        try:
            mark = base64.b64decode(packed, validate=True)
        except (binascii.Error, ValueError):
            continue
        if version == "v1" and any(hmac.compare_digest(mark, one) for one in marks):
            parsed: dict[str, Any] = orjson.loads(body)
            return parsed
    raise NotSigned("no signature of the request is by this secret")
