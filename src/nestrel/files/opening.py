"""Opens the storage that the setting names."""

from __future__ import annotations

from pathlib import Path
from urllib.parse import urlsplit

from nestrel.files.folder import Folder
from nestrel.files.objects import Files


def check_address(address: str) -> None:
    """Raises `ValueError` for what is neither a folder nor a bucket."""
    if "://" not in address:
        return
    parts = urlsplit(address)
    if parts.scheme != "s3" or not parts.netloc:
        raise ValueError("must be a folder, or s3://BUCKET or s3://BUCKET/PREFIX")


def open_files(address: str | None, endpoint: str | None, data_dir: Path) -> Files:
    """The files at an address: a folder, or `s3://bucket/prefix` with an `endpoint`. Nothing connects before it is
    used.

    Raises:
        ValueError: it is no such address.
    """
    if address is not None:
        check_address(address)
    if address is not None and "://" in address:
        from nestrel.files.bucket import Bucket  # a large library, for those alone who use it

        parts = urlsplit(address)
        return Bucket(parts.netloc, parts.path.strip("/"), endpoint)
    return Folder(Path(address) if address is not None else data_dir / "files")
