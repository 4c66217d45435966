"""Beside pyproject.toml: a build notes the commit that it is of."""

from __future__ import annotations

import subprocess
from pathlib import Path

from setuptools import setup
from setuptools.command.build_py import build_py
from setuptools.command.sdist import sdist

STAMP = "src/nestrel/commit.txt"


def commit() -> str:
    """The commit of this checkout; of an sdist the one that it was made of; empty where nobody knows."""
    stamp = Path(STAMP)
    if stamp.is_file():
        return stamp.read_text()
    try:
        return subprocess.run(["git", "rev-parse", "HEAD"], capture_output=True, text=True, check=True).stdout
    except (OSError, subprocess.CalledProcessError):
        return ""


class Stamped(build_py):
    def run(self) -> None:
        super().run()
        if not self.editable_mode:
            Path(self.build_lib, "nestrel", "commit.txt").write_text(commit())


class StampedSource(sdist):
    def make_release_tree(self, base_dir: str, files: list[str]) -> None:
        super().make_release_tree(base_dir, files)
        Path(base_dir, STAMP).write_text(commit())


setup(cmdclass={"build_py": Stamped, "sdist": StampedSource})
