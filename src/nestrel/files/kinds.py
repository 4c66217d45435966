"""The media type of a file, found in its content. What the sender claims is ignored."""

from __future__ import annotations

import codecs
from pathlib import PurePath

import puremagic

OTHER = "application/octet-stream"
"""What nobody knows, and what claims to be a picture and is none."""
HEAD = 64 * 1024
"""Bytes that are looked at."""
PICTURES = {
    "image/png": "PNG", "image/jpeg": "JPEG", "image/gif": "GIF", "image/webp": "WEBP", "image/avif": "AVIF",
    "image/bmp": "BMP",
}  # fmt: skip
"""Kinds of pictures that are opened, each with the name that the library for pictures has for it."""

_OTHER_NAMES = {"image/x-ms-bmp": "image/bmp", "image/x-png": "image/png", "image/pjpeg": "image/jpeg"}
_MARKUP = ("text/html", "image/svg+xml", "application/xml", "text/xml", "application/rtf", "application/pdf")
"""What is text and yet a kind of its own."""
_TEXT_CONTROLS = bytes(set(range(32)) - set(b"\t\n\r\f\x1b"))
_ZIP = b"PK\x03\x04"


def kind_of(head: bytes, name: str) -> str:
    """The media type (RFC 6838) of a file, from its first bytes; its name says only which of several kinds with the
    same beginning it is, as of those that are all archives inside."""
    found = _candidates(head)
    if _is_text(head):
        return next((kind for _, kind in found if kind in _MARKUP), "text/plain")
    if head.startswith(_ZIP):
        ending = PurePath(name).suffix.lower()
        return next((kind for extension, kind in found if extension == ending), "application/zip")
    return next((kind for _, kind in found), OTHER)


def _candidates(head: bytes) -> list[tuple[str, str]]:
    try:
        found = puremagic.magic_string(head)
    except (puremagic.PureError, ValueError):
        return []
    return [(one.extension, _OTHER_NAMES.get(one.mime_type, one.mime_type)) for one in found if one.mime_type]


def _is_text(head: bytes) -> bool:
    """Whether it is UTF-8 without controls; a character that is cut off at the end is no fault."""
    if not head or head.translate(None, _TEXT_CONTROLS) != head:
        return not head
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head, final=len(head) < HEAD)
    except UnicodeDecodeError:
        return False
    return True
