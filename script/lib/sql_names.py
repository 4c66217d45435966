"""Holds that each statement of the store has a name of its own, so that a name leads to one place."""

from __future__ import annotations

import ast
import sys
from collections import defaultdict
from pathlib import Path

_STORE = Path(__file__).parents[2] / "src/nestrel/store"


_COMPOSED = {"Query", "Change"}


def _is_text(value: ast.expr) -> bool:
    if isinstance(value, ast.Constant):
        return isinstance(value.value, str)
    if isinstance(value, ast.Call):  # a pattern that is filled in
        return isinstance(value.func, ast.Attribute) and value.func.attr == "format"
    return isinstance(value, (ast.JoinedStr, ast.BinOp))


def _is_composed(value: ast.expr) -> bool:
    return isinstance(value, ast.Call) and isinstance(value.func, ast.Name) and value.func.id in _COMPOSED


def _statements(file: Path) -> list[str]:
    """The constants of a module that hold text, and the statements that are composed in it."""
    return [
        target.id
        for node in ast.parse(file.read_text()).body
        if isinstance(node, ast.Assign)
        for target in node.targets
        if isinstance(target, ast.Name) and target.id.isupper()
        and (_is_composed(node.value) or (target.id.startswith("_") and _is_text(node.value)))
    ]  # fmt: skip


def main() -> None:
    """Say which names stand twice, and end with 1 if any does."""
    where = defaultdict(list)
    for file in sorted(_STORE.rglob("*.py")):
        if "migrations" not in file.parts:
            for name in _statements(file):
                where[name].append(str(file.relative_to(_STORE)))
    twice = {name: files for name, files in where.items() if len(files) > 1}
    for name, files in twice.items():
        print(f"{name} stands in {' and '.join(files)}: name it after what it is about", file=sys.stderr)
    sys.exit(1 if twice else 0)


if __name__ == "__main__":
    main()
