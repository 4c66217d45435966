"""The form of what processes of one service say to each other on the bus. Any role of the database may listen and speak
on a channel of NOTIFY: it hears nothing that it can read, and says nothing that is taken for a word of the service."""

from __future__ import annotations

import base64
import binascii
import hashlib
import os

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

_NONCE, _TAG = 12, 16
_PERSON = b"nestrel bus"


class Words:
    """Seals words with a key that the processes of one database share (AES-GCM, NIST SP 800-38D)."""

    def __init__(self, key: bytes) -> None:
        own = hashlib.blake2b(key, digest_size=32, person=_PERSON).digest()
        self._cipher = AESGCM(own)
        self._topics = hashlib.blake2b(own, digest_size=32, person=b"nestrel topics").digest()

    def seal(self, words: bytes) -> str:
        """What goes over the bus."""
        nonce = os.urandom(_NONCE)
        return base64.b64encode(nonce + self._cipher.encrypt(nonce, words, None)).decode()

    def open(self, sealed: str) -> str:
        """The words. Raises `ValueError` for what no process of this service said."""
        try:
            raw = base64.b64decode(sealed, validate=True)
            return self._cipher.decrypt(raw[:_NONCE], raw[_NONCE:], None).decode()
        except (binascii.Error, InvalidTag, ValueError):
            raise ValueError("not a word of this service") from None

    def topic(self, name: str) -> str:
        """A name that says nothing to others, the same for the same."""
        return hashlib.blake2b(name.encode(), key=self._topics, digest_size=16).hexdigest()


def most(sealed_bytes: int) -> int:
    """How many bytes of words are at most so many when they are sealed."""
    return sealed_bytes // 4 * 3 - _NONCE - _TAG
