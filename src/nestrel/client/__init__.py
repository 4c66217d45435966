"""The client library: `AsyncClient` for asyncio, `Client` for everything else.

Both raise `nestrel.core.problems.Problem` classes for what the service refuses, and `Unreachable` when it does not
answer; all of them are `NestrelError`.

Names are imported when they are first used: whoever only posts loads no SQLite and no WebSocket.
"""

import ast
from importlib import import_module
from pathlib import Path
from typing import Any

_MODULES = {
    name.name: found.module
    for found in ast.parse(Path(__file__).with_suffix(".pyi").read_text()).body
    if isinstance(found, ast.ImportFrom) and found.module
    for name in found.names
}
"""Which name is where: said once, in the file that editors and type checkers read."""

__all__ = sorted(_MODULES)


def __getattr__(name: str) -> Any:
    if name not in _MODULES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    value = globals()[name] = getattr(import_module(_MODULES[name]), name)
    return value


def __dir__() -> list[str]:
    return sorted({*globals(), *_MODULES})
