"""Attachments: what one is, how a message carries them, and what a file may be called."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

import orjson

from nestrel.core import limits
from nestrel.core.problems import TooLarge, invalid
from nestrel.core.times import format_time

NAMELESS = "file"
"""What a file is called whose name says nothing."""

_DIRECTIONS = frozenset("\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")
_APART = re.compile(r"[/\\]")


@dataclass(frozen=True, slots=True)
class Attachment:
    """A file that belongs to messages of one conversation. `width` and `height`, in pixels, are of a picture alone, as
    it is shown; `still`: it may be shown in a page, as a picture of one frame of a kind that holds no program."""

    id: UUID
    uploader_id: str
    name: str
    media_type: str
    size: int
    sha256: bytes
    width: int | None
    height: int | None
    still: bool
    created_at: datetime

    def wire(self) -> dict[str, Any]:
        return {
            "attachment_id": str(self.id),
            "name": self.name,
            "media_type": self.media_type,
            "bytes": self.size,
            "sha256": self.sha256.hex(),
            "width": self.width,
            "height": self.height,
            "created_at": format_time(self.created_at),
        }


class Borne(NamedTuple):
    """Attachments as a message bears them: their ids, their objects as the JSON of a list, and their bytes."""

    ids: tuple[UUID, ...] = ()
    packed: str | None = None
    size: int = 0


NONE_BORNE = Borne()


def borne(attachments: Sequence[Attachment]) -> Borne:
    """Attachments in the order in which a message shows them."""
    if not attachments:
        return NONE_BORNE
    packed = orjson.dumps([one.wire() for one in attachments]).decode()
    return Borne(tuple(one.id for one in attachments), packed, sum(one.size for one in attachments))


def borne_in(packed: str | None) -> Borne:
    """The same from what a message has in store."""
    if packed is None:
        return NONE_BORNE
    objects = orjson.loads(packed)
    return Borne(tuple(UUID(one["attachment_id"]) for one in objects), packed, sum(one["bytes"] for one in objects))


def check_ids(ids: Sequence[UUID]) -> list[UUID]:
    """Attachments of one message: at most 10, each counted once."""
    wanted = list(dict.fromkeys(ids))
    if len(wanted) > limits.ATTACHMENTS:
        raise TooLarge(f"a message has at most {limits.ATTACHMENTS} attachments; this one has {len(wanted):,}")
    return wanted


def check_found(wanted: Sequence[UUID], found: Borne) -> None:
    """Refuse what a message cannot bear.

    Raises:
        InvalidRequest: some of what is wanted was not found among what its author may use here.
    """
    missing = [str(one) for one in wanted if one not in found.ids]
    if missing:
        raise invalid(
            "/attachments",
            "only what its author has uploaded to this conversation, and what is still there, is posted; upload again: "
            + ", ".join(missing),
        )


def clean_name(name: str) -> str:
    """The name that a file is kept under: the last part of a path, in at most 255 characters, without controls and
    marks that turn the direction of writing; its ending stays where it has to be cut."""
    last = _APART.split(name)[-1]
    kept = "".join(one for one in last if one not in _DIRECTIONS and unicodedata.category(one) not in _UNSEEN).strip()
    if len(kept) > limits.FILE_NAME_CHARS:
        stem, dot, ending = kept.rpartition(".")
        if dot and len(ending) < _ENDING:
            kept = stem[: limits.FILE_NAME_CHARS - len(ending) - 1] + dot + ending
        kept = kept[: limits.FILE_NAME_CHARS]
    return NAMELESS if kept in ("", ".", "..") else kept


_UNSEEN = ("Cc", "Cs", "Zl", "Zp")
_ENDING = 20
