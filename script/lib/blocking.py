"""Writes src/nestrel/client/blocking.py from the asynchronous client: each method with its docstring, run on a thread.

`--check` writes nothing, and exits 1 when what is there is not what would be written.
"""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

CLIENT = Path(__file__).parents[2] / "src/nestrel/client"
SOURCES = (
    "conversations",
    "messages",
    "attachments",
    "keeping",
    "order",
    "webhooks",
    "notices",
)  # in the order in which their methods are to be read
BY_HAND = {"close", "follow"}  # in running.py
ASYNCIO_ONLY = {"live", "replica"}  # objects that keep themselves current, on a loop

HEAD = '''"""The blocking client, made by script/generate from the asynchronous one: no second implementation."""

from __future__ import annotations

{imports}


class Client(OnThread):
    """`AsyncClient` for code that does not use asyncio; the same methods, and iterators where that has asynchronous
    ones. Use it in a `with` block, or call `close`.

    Parameters:
        base_url: the service's address, such as `http://127.0.0.1:8460`.
        token: a bearer token, or a function that gives a fresh one whenever it is asked.
        tries: how often a repeatable request is sent in all; posts are repeatable, as each carries its key.
        timeout: seconds for one exchange.

    Every method raises a `Problem` when the service refuses and `Unreachable` when it does not answer.
    """
'''


class Source:
    """One module of the asynchronous client: its methods, and where the names in it are from."""

    def __init__(self, name: str) -> None:
        self.module = f"nestrel.client.{name}"
        self.homes: dict[str, str] = {}
        self.methods: list[ast.AsyncFunctionDef] = []
        for node in ast.parse((CLIENT / f"{name}.py").read_text()).body:
            if isinstance(node, ast.ImportFrom):
                self.homes |= {alias.name: str(node.module) for alias in node.names}
            elif isinstance(node, ast.Assign):
                self.homes |= {target.id: self.module for target in node.targets if isinstance(target, ast.Name)}
            elif isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                self.methods += [item for item in node.body if isinstance(item, ast.AsyncFunctionDef)]

    def public(self) -> list[ast.AsyncFunctionDef]:
        return [one for one in self.methods if not one.name.startswith("_") and one.name not in BY_HAND | ASYNCIO_ONLY]


def arguments(given: ast.arguments) -> str:
    """How a method hands its own arguments on."""
    parts = [argument.arg for argument in given.args[1:]]
    parts += [f"{argument.arg}={argument.arg}" for argument in given.kwonlyargs]
    if given.kwarg is not None:
        parts.append(f"**{given.kwarg.arg}")
    return ", ".join(parts)


def method(found: ast.AsyncFunctionDef) -> str:
    assert found.returns is not None, found.name
    returns = ast.unparse(found.returns)
    runner = "_iterate" if returns.startswith("AsyncIterator") else "_run"
    returns = returns.replace("AsyncIterator", "Generator")
    said = ast.get_docstring(found)
    doc = ""
    if said is not None:
        end = "\n" if "\n\n" in said else ""  # where it stands in the original
        doc = f'"""{said}{end}"""'.replace("\n", "\n        ") + "\n"
    answer = "" if returns == "None" else "return "
    call = f"{answer}self.{runner}(self._client.{found.name}({arguments(found.args)}))"
    lines = f"    def {found.name}({ast.unparse(found.args)}) -> {returns}:\n"
    return lines + (f"        {doc}" if doc else "") + f"        {call}\n"


def imports(sources: list[Source]) -> str:
    needed = {"OnThread": "nestrel.client.running"}
    for source in sources:
        for one in source.public():
            signature = [one.args, one.returns]
            names = {node.id for part in signature if part for node in ast.walk(part) if isinstance(node, ast.Name)}
            needed |= {name: source.homes[name] for name in names if name in source.homes}
    if needed.pop("AsyncIterator", None):
        needed["Generator"] = "collections.abc"
    return "\n".join(f"from {home} import {name}" for name, home in needed.items())


def text() -> str:
    sources = [Source(name) for name in SOURCES]
    body = [method(one) for source in sources for one in source.public()]
    made = HEAD.format(imports=imports(sources)) + "\n" + "\n".join(body)
    place = str(CLIENT / "blocking.py")
    for tool in (("check", "--fix", "--quiet", "--select", "I"), ("format", "--quiet")):
        command = ("ruff", *tool, "--stdin-filename", place, "-")
        made = subprocess.run(command, input=made, capture_output=True, text=True, check=True).stdout
    return made


def main() -> None:
    place, made = CLIENT / "blocking.py", text()
    if "--check" not in sys.argv:
        place.write_text(made)
    elif place.read_text() != made:
        sys.exit("src/nestrel/client/blocking.py is not what the asynchronous client makes it: run script/generate")


if __name__ == "__main__":
    main()
