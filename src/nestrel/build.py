"""Which build this is: versions of different schemas, or of different commits, are not to be taken for one another."""

from __future__ import annotations

import re
from pathlib import Path

from nestrel import __version__

_HERE = Path(__file__).parent
_STAMP = _HERE / "commit.txt"
"""What a build writes into the package; a checkout has none, and is asked itself."""


def schema() -> str:
    """The newest revision of the schema that this build knows."""
    revisions = (file.name[:4] for file in (_HERE / "store/migrations/versions").glob("[0-9]*.py"))
    return max(revisions, default="none")


def commit() -> str | None:
    """The commit that this build is of, shortened; None where nobody knows."""
    try:
        return (_STAMP.read_text() if _STAMP.is_file() else _head(_HERE.parents[1] / ".git")).strip()[:10] or None
    except OSError:
        return None


def _head(git: Path) -> str:
    """What a checkout stands at. Raises `OSError` where it is none."""
    if git.is_file():  # of a worktree, it says where the rest is
        git = git.parent / git.read_text().removeprefix("gitdir:").strip()
    head = (git / "HEAD").read_text().strip()
    if re.fullmatch("[0-9a-f]{40,64}", head):
        return head
    name = head.removeprefix("ref:").strip()
    common = git / "commondir"
    root = git / common.read_text().strip() if common.is_file() else git
    if (root / name).is_file():
        return (root / name).read_text()
    for line in (root / "packed-refs").read_text().splitlines():
        if line.endswith(f" {name}"):
            return line.split(" ")[0]
    return ""


def described() -> str:
    """The version with its schema and its commit, for people."""
    of = commit()
    return f"{__version__} (schema {schema()}{f', commit {of}' if of else ''})"
