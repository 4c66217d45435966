"""The process that opens pictures, and nothing else: whatever is in one, it harms this process alone.

It hears on a socket, whose descriptor is its argument, what `nestrel.files.asking` describes. It may not write files,
opens none but Python's own where the kernel can hold it to that (Landlock, Linux 5.13), has bounds on its memory and on
the time of each picture, and ends with its parent.
"""

from __future__ import annotations

import array
import contextlib
import io
import json
import os
import resource
import socket
import struct
import sys
import warnings
from pathlib import Path
from typing import BinaryIO

from landlock import LandlockError  # type: ignore[import-untyped]  # it has no types
from landlock.plumbing import FSAccess  # type: ignore[import-untyped]  # as above
from landlock.porcelain import Ruleset  # type: ignore[import-untyped]  # as above
from PIL import Image, ImageCms, ImageOps

from nestrel.core import limits
from nestrel.files.asking import ANSWER, BROKEN, DONE, QUESTION, TOO_LARGE
from nestrel.files.kinds import PICTURES

_MEMORY = 1_500_000_000
_TALLEST = 4
"""A preview is at most so many times as high as it may be wide."""
_QUALITY = 80
_NICE = 15
"""Whoever posts goes first."""


class TooManyPixels(Exception):
    """More than a picture may have."""


def look(file: BinaryIO) -> dict[str, object]:
    """What a picture is: its kind, its size as it is shown, and whether it has one frame. All of its first frame is
    read, so that one that breaks off is found."""
    picture = _opened(file)
    kind = next(media_type for media_type, name in PICTURES.items() if name == picture.format)
    still = not getattr(picture, "is_animated", False)
    width, height = picture.size
    if picture.getexif().get(_ORIENTATION, 1) >= _TURNED:
        width, height = height, width
    picture.seek(0)
    picture.draft(None, (1, 1))
    picture.load()
    return {"media_type": kind, "width": width, "height": height, "still": still}


_ORIENTATION = 0x0112
_TURNED = 5
"""From this value on width and height change places."""


def preview(file: BinaryIO, width: int) -> bytes:
    """A WebP of at most that width, and no larger than the picture; with nothing in it but what is to be seen."""
    picture = _opened(file)
    picture.draft("RGB", (2 * width, 2 * width * _TALLEST))
    picture.load()
    profile = picture.info.get("icc_profile")
    # Made small first: turning and colours then cost little.
    box = (width, width * _TALLEST)
    turned = picture.getexif().get(_ORIENTATION, 1) >= _TURNED
    if picture.mode not in ("RGB", "RGBA", "L", "LA"):
        alpha = "transparency" in picture.info or picture.mode in ("PA", "La", "RGBa")
        picture = picture.convert("RGBA" if alpha else "RGB")
    exif = picture.getexif()
    picture.thumbnail(box[::-1] if turned else box, Image.Resampling.LANCZOS, reducing_gap=2.0)
    if exif.get(_ORIENTATION, 1) != 1:
        picture = ImageOps.exif_transpose(picture)
    if profile:
        picture = _in_srgb(picture, profile)
    out = io.BytesIO()
    picture.convert("RGBA" if picture.mode in ("RGBA", "LA") else "RGB").save(
        out, "WEBP", quality=_QUALITY, method=2, icc_profile=b"", exif=b"", xmp=b""
    )
    return out.getvalue()


def _in_srgb(picture: Image.Image, profile: bytes) -> Image.Image:
    """The colours of a profile as everyone shows them; with a broken profile, as they are."""
    with contextlib.suppress(ImageCms.PyCMSError, OSError, ValueError, TypeError):
        source = ImageCms.ImageCmsProfile(io.BytesIO(profile))
        found = ImageCms.profileToProfile(picture, source, ImageCms.createProfile("sRGB"))
        return found if found is not None else picture
    return picture


def _opened(file: BinaryIO) -> Image.Image:
    picture = Image.open(file, formats=list(PICTURES.values()))
    width, height = picture.size
    if width * height > limits.PICTURE_PIXELS:
        raise TooManyPixels
    if picture.format == "JPEG" and _scans(file) > limits.PICTURE_SCANS:
        raise ValueError("too many scans")
    return picture


def _scans(file: BinaryIO) -> int:
    """In how many passes a JPEG is drawn: each begins with a marker (ITU-T T.81, B.2.3) that stands nowhere else in
    what is drawn."""
    at, found, last = file.tell(), 0, b""
    file.seek(0)
    while part := file.read(1 << 20):
        found += (last + part).count(_SCAN)
        last = part[-1:]
    file.seek(at)
    return found


_SCAN = b"\xff\xda"


def _answer(wanted: int, descriptor: int) -> tuple[int, bytes]:
    try:
        with os.fdopen(descriptor, "rb") as file:
            file.seek(0)
            return DONE, json.dumps(look(file)).encode() if wanted == 0 else preview(file, wanted)
    except TooManyPixels:
        return TOO_LARGE, b""
    except Exception as error:  # a library for pictures raises what it likes on one that is broken
        return BROKEN, type(error).__name__.encode()


def _confine() -> None:
    os.nice(_NICE)
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    resource.setrlimit(resource.RLIMIT_FSIZE, (0, 0))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_NOFILE, (64, 64))
    with contextlib.suppress(OSError, LandlockError):  # a kernel without it, or one that has it turned off
        rules = Ruleset()
        # What is imported late lies there; a picture comes as a descriptor, which needs no opening.
        rules.allow(*_read(), rules=FSAccess.READ_FILE | FSAccess.READ_DIR)
        rules.apply()


def _read() -> set[str]:
    """Folders with Python's own files and its libraries."""
    own = {sys.prefix, sys.base_prefix, str(Path(Image.__file__).parent), str(Path(__file__).parents[2])}
    return {one for one in (*own, "/usr/lib", "/lib", "/usr/share/zoneinfo") if Path(one).is_dir()}


def main() -> int:
    Image.MAX_IMAGE_PIXELS = None  # our own bound stands before anything is read
    warnings.simplefilter("ignore")
    Image.init()
    _confine()
    with socket.socket(fileno=int(sys.argv[1])) as line:
        while True:
            data, ancillary, _, _ = line.recvmsg(QUESTION.size, socket.CMSG_SPACE(struct.calcsize("i")))
            if len(data) < QUESTION.size:
                return 0
            used = sum(resource.getrusage(resource.RUSAGE_SELF)[:2])
            resource.setrlimit(resource.RLIMIT_CPU, (int(used) + limits.PICTURE_SECONDS, resource.RLIM_INFINITY))
            descriptors = array.array("i")
            for _, _, sent in ancillary:
                descriptors.frombytes(sent[: len(sent) - len(sent) % descriptors.itemsize])
            outcome, content = _answer(QUESTION.unpack(data)[0], descriptors[0])
            line.sendall(ANSWER.pack(outcome, len(content)) + content)


if __name__ == "__main__":
    sys.exit(main())
