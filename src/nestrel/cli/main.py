"""The `nestrel` command."""

from __future__ import annotations

from importlib import import_module
from typing import NamedTuple

import click
from click.shell_completion import CompletionItem

from nestrel import build
from nestrel.cli.options import Refusable


class _Command(NamedTuple):
    """Where a command is, and its line in the list of all; only the one that runs is imported."""

    module: str
    summary: str
    object: str | None = None


COMMANDS = {
    "archive": _Command("archive", "What retention has archived."),
    "attachments": _Command("attachments", "The files that belong to messages."),
    "audit": _Command("watching", "Show what people with a role did to others, newest first."),
    "blocked": _Command("order", "Block people: no direct conversation with one another, and no being added by them."),
    "completion": _Command(
        "completion", "Print what makes SHELL complete commands, options and the names of conversations."
    ),
    "connections": _Command("watching", "Who is connected, on all processes; for a trusted backend."),
    "conversations": _Command("conversations", "Make, find and change conversations."),
    "db": _Command("run", "The database schema."),
    "demo": _Command("demo", "Start everything with example data: database, issuer, service, console."),
    "doctor": _Command("doctor", "Check settings, database and service; exit 1 if something is missing."),
    "edit": _Command("changing", "Give your message SEQ a new BODY."),
    "edits": _Command("changing", "Show the earlier bodies of message SEQ, oldest first, and the present one."),
    "erase": _Command(
        "erase", "Empty everything that USER has written, live and archived, and their profile, for good."
    ),
    "export": _Command("transfer", "Write the messages of CONVERSATION in order, as of now."),
    "export-person": _Command("order", "Write all that is kept about a person into FILE, a ZIP.", "export_person"),
    "follow": _Command("messages", "Show what happens in CONVERSATION as it happens, until interrupted."),
    "history": _Command("messages", "Show messages of CONVERSATION, oldest at the top."),
    "import": _Command("transfer", "Bring in messages from FILE, or from standard input with -.", "import_"),
    "invitations": _Command("invitations", "Let people join who have a token."),
    "kept-out": _Command("order", "Keep people out of a conversation.", "kept_out"),
    "like": _Command("changing", "Set your reaction on message SEQ."),
    "notices": _Command("notices", "Say what you are told of while you are not here, and on which devices."),
    "people": _Command("people", "List the people whom you can see."),
    "post": _Command("messages", "Post BODY into CONVERSATION."),
    "put-person": _Command("people", "Make the profile of USER, or change it; for a trusted backend.", "put_person"),
    "read": _Command("changing", "Say that you have read CONVERSATION up to SEQ."),
    "readers": _Command("changing", "Show which members have read message SEQ, how far each has read, and when."),
    "remove": _Command("changing", "Take message SEQ away for good; a tombstone stays in its place."),
    "reports": _Command("reports", "What readers have reported, for those who judge."),
    "resync": _Command("resync", "Bring a replica of all your conversations to date."),
    "retention": _Command("retention", "What conversations keep, and what becomes of the rest."),
    "said": _Command("people", "Show the newest messages of USER in all of your conversations."),
    "search": _Command("search", "Show the newest messages that have all WORDS, newest first."),
    "serve": _Command("run", "Run the service until SIGTERM, which drains it."),
    "sign-out": _Command("order", "End all tokens that USER has by now, and their connections.", "sign_out"),
    "suspension": _Command("order", "Suspend people from the whole service; for a trusted backend."),
    "token": _Command("token", "Print a token that speaks for USER."),
    "unlike": _Command("changing", "Take your reaction on message SEQ back."),
    "usage": _Command("watching", "Show what was used: messages, deliveries, people, connections, stored bytes."),
    "webhooks": _Command("webhooks", "Have what changes sent to an address; for a trusted backend."),
}


class _Commands(Refusable):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        if (found := COMMANDS.get(name)) is None:
            return None
        module = import_module(f"nestrel.cli.{found.module}")
        command: click.Command = getattr(module, found.object or name)
        return command

    def shell_complete(self, ctx: click.Context, incomplete: str) -> list[CompletionItem]:
        """Names from the list of all: none is imported for that."""
        found = [
            CompletionItem(name, help=command.summary)
            for name, command in COMMANDS.items()
            if name.startswith(incomplete)
        ]
        return found + click.Command.shell_complete(self, ctx, incomplete)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl([(name, command.summary) for name, command in COMMANDS.items()])


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(build.described(), prog_name="nestrel")
def main() -> None:
    """The conversation store behind chat.

    `nestrel demo` starts everything with example data. Exit codes: 0 done, 1 refused, 2 wrong usage,
    3 not reachable.
    """
