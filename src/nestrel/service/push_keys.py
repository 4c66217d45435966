"""Web push as the services of the browsers' makers want it: who speaks (RFC 8292), and what nobody on the way reads
(RFC 8291)."""

from __future__ import annotations

import base64
import time
from urllib.parse import urlsplit

import http_ece  # type: ignore[import-untyped]  # it has no types
import jwt
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

_CURVE = ec.SECP256R1()
AUTH_BYTES = 16
_VALID_SECONDS = 12 * 3_600
"""RFC 8292, 2, allows 24 hours."""
_RENEWED_SECONDS = _VALID_SECONDS / 2
_ORIGINS = 1_000


def encoded(raw: bytes) -> str:
    """base64url without padding (RFC 4648, 5)."""
    return base64.urlsafe_b64encode(raw).rstrip(b"=").decode()


def decoded(text: str) -> bytes:
    """The same back; padding may be there. Raises `ValueError`."""
    text = text.rstrip("=")
    if not text.isascii() or any(one not in _ALPHABET for one in text):
        raise ValueError("must be base64url (RFC 4648, 5)")
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


_ALPHABET = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_")


def check_point(raw: bytes) -> bytes:
    """Whether it is a public key of P-256, in the uncompressed form. Raises `ValueError`."""
    try:
        if len(raw) == 65:
            ec.EllipticCurvePublicKey.from_encoded_point(_CURVE, raw)
            return raw
    except (ValueError, UnsupportedAlgorithm):
        pass
    raise ValueError("must be a public key on P-256, 65 bytes in base64url (RFC 8291, 3.1)")


def encrypted(text: bytes, p256dh: bytes, auth: bytes) -> bytes:
    """What only the device can read, in one record (RFC 8291, 4)."""
    own = ec.generate_private_key(_CURVE)
    sealed: bytes = http_ece.encrypt(text, private_key=own, dh=p256dh, auth_secret=auth, version="aes128gcm")
    return sealed


class PushKey:
    """The service's own key, of 32 bytes, the same for all processes of one database; `contact` is a URL at which its
    operator can be found."""

    def __init__(self, secret: bytes, contact: str | None) -> None:
        self._key = ec.derive_private_key(int.from_bytes(secret), _CURVE)
        self.public = encoded(self._key.public_key().public_bytes(Encoding.X962, PublicFormat.UncompressedPoint))
        self._contact = contact
        self._headers: dict[str, tuple[float, str]] = {}

    def authorization(self, endpoint: str) -> str:
        """The header that says to a push service who speaks."""
        parts = urlsplit(endpoint)
        origin, now = f"{parts.scheme}://{parts.netloc}", time.time()
        made, header = self._headers.get(origin, (0.0, ""))
        if now - made > _RENEWED_SECONDS:
            claims: dict[str, object] = {"aud": origin, "exp": int(now) + _VALID_SECONDS}
            if self._contact is not None:
                claims["sub"] = self._contact
            header = f"vapid t={jwt.encode(claims, self._key, algorithm='ES256')}, k={self.public}"
            if len(self._headers) >= _ORIGINS:
                self._headers.clear()
            self._headers[origin] = now, header
        return header
