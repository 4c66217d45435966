"""The `nestrel` command."""

from __future__ import annotations

from importlib import import_module

import click

from nestrel import __version__
from nestrel.cli.options import Refusable

_COMMANDS = {
    "archive": "archive",
    "conversations": "conversations",
    "db": "run",
    "demo": "demo",
    "doctor": "doctor",
    "edit": "changing",
    "edits": "changing",
    "erase": "erase",
    "export": "transfer",
    "follow": "messages",
    "history": "messages",
    "import": "transfer",
    "like": "changing",
    "post": "messages",
    "read": "changing",
    "readers": "changing",
    "remove": "changing",
    "resync": "resync",
    "retention": "retention",
    "serve": "run",
    "token": "token",
    "unlike": "changing",
}
"""Each command and the module it is in. Only the one that runs is imported: posting a message need not load what the
service is made of."""


_OBJECTS = {"import": "import_"}
"""Commands whose names are words of Python."""


class _Commands(Refusable):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if name not in _COMMANDS:
            return None
        command: click.Command = getattr(import_module(f"nestrel.cli.{_COMMANDS[name]}"), _OBJECTS.get(name, name))
        return command


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="nestrel")
def main() -> None:
    """The conversation store behind chat.

    `nestrel demo` starts everything with example data. Exit codes: 0 done, 1 refused, 2 wrong usage.
    """
