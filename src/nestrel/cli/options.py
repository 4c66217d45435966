"""Options and errors that commands share."""

from __future__ import annotations

import functools
import os
import sys
from collections.abc import Callable
from difflib import get_close_matches
from importlib.util import find_spec
from itertools import islice
from typing import TYPE_CHECKING, Any, TextIO, TypeVar

import click
from click.shell_completion import CompletionItem

from nestrel.cli import output
from nestrel.core.problems import NestrelError, Problem, Unreachable

if TYPE_CHECKING:
    from nestrel.service.settings import Settings

F = TypeVar("F", bound=Callable[..., Any])

DEFAULT_URL = "http://127.0.0.1:8460"


def as_json(command: F) -> F:
    return click.option("--json", "as_json", is_flag=True, help="Print JSON Lines, one object a line.")(command)


def with_service(command: Callable[..., Any]) -> Callable[..., Any]:
    """Give a command the `url` and `token` of a service, from options or their environment variables."""

    @click.option("--url", envvar="NESTREL_URL", default=DEFAULT_URL, show_default=True, show_envvar=True,
                  help="The service's address.")  # fmt: skip
    @click.option("--token", envvar="NESTREL_TOKEN", show_envvar=True, help="A bearer token. What stands "
                  "on the command line is shown to every user of the machine: prefer NESTREL_TOKEN, "
                  "or --token-file.")  # fmt: skip
    @click.option("--token-file", type=click.File("r"), help="A file that holds the token; - is standard input.")
    @functools.wraps(command)
    def run(*args: Any, url: str, token: str | None, token_file: TextIO | None, **kwargs: Any) -> Any:
        if token_file is not None:
            token = token_file.read().strip()
        if not token:
            raise click.UsageError(
                "no token: set NESTREL_TOKEN or pass --token-file, for example\n"
                "  export NESTREL_TOKEN=$(nestrel token USER)"
            )
        if not url.startswith(("http://", "https://")):
            raise click.UsageError("--url must begin with http:// or https://")
        return command(*args, url=url, token=token, **kwargs)

    return run


def with_client(command: Callable[..., Any]) -> Callable[..., Any]:
    """Give a command a `Client` of that service."""

    @with_service
    @functools.wraps(command)
    def run(*args: Any, url: str, token: str, **kwargs: Any) -> Any:
        from nestrel.client import Client

        with Client(url, token) as client:
            return command(*args, client=client, **kwargs)

    return run


def settings_or_exit(**overrides: object) -> Settings:
    """The settings, or exit 2 with what is wrong with them."""
    from nestrel.service.loading import SettingsError, load_settings  # late: it brings the service's libraries

    try:
        return load_settings(**overrides)
    except SettingsError as error:
        raise click.UsageError(str(error)) from None


def of_the_service(command: Callable[..., Any]) -> Callable[..., Any]:
    """For a command that needs what `nestrel[service]` installs; what it imports of that, it imports when it runs."""

    @functools.wraps(command)
    def run(*args: Any, **kwargs: Any) -> Any:
        if find_spec("sqlalchemy") is None:
            raise click.ClickException(
                "this is a command of the service, whose packages are not installed: pip install 'nestrel[service]'"
            )
        return command(*args, **kwargs)

    return run


_ALIKE = 0.75
"""From so much on two words are taken for one."""


def _say(title: str, detail: str, as_json: bool) -> None:
    if as_json:
        output.json_problem({"type": "about:blank", "title": title, "detail": detail})
    else:
        output.refuse(title, detail)


class ConversationName(click.ParamType[str]):
    """The id or the name of a conversation; a shell completes names, as far as the service gives them at once."""

    name = "conversation"

    def shell_complete(self, ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        url = ctx.params.get("url") or os.environ.get("NESTREL_URL") or DEFAULT_URL
        token = ctx.params.get("token") or os.environ.get("NESTREL_TOKEN")
        if not token:
            return []
        from nestrel.client import Client

        try:
            with Client(url, token, tries=1, timeout=_COMPLETE_SECONDS) as client:
                found = islice(client.conversations(), _COMPLETED)
                names = [(one.name, one.title) for one in found if one.name and one.name.startswith(incomplete)]
        except NestrelError:
            return []
        return [CompletionItem(output.one_line(name), help=output.one_line(title)) for name, title in names]


CONVERSATION = ConversationName()
_COMPLETE_SECONDS = 2.0
_COMPLETED = 1_000
"""Conversations among which a name is looked for."""


class Refusable(click.Group):
    """A group whose commands end with exit code 1 and two lines on stderr when the service refuses, and with 3 when it
    cannot be reached. With `--json` what is said there is a problem document (RFC 9457)."""

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if self.get_command(ctx, args[0]) is None and not args[0].startswith("-"):
            # Click looks for the nearest one among commands that are loaded; these are loaded when they run.
            near = get_close_matches(args[0], self.list_commands(ctx), 1)
            meant = f" Did you mean {near[0]}?" if near else ""
            raise click.UsageError(f"There is no command {args[0]}.{meant}", ctx)
        return super().resolve_command(ctx, args)

    def invoke(self, ctx: click.Context) -> Any:
        as_json = "--json" in (*ctx._protected_args, *ctx.args)
        try:
            return super().invoke(ctx)
        except click.NoSuchOption as error:
            # Click takes what is hardly alike for what was meant.
            near = get_close_matches(error.option_name, error.possibilities or (), 1, _ALIKE)
            error = click.NoSuchOption(error.option_name, possibilities=near, ctx=error.ctx)
            if error.possibilities or error.option_name.startswith("--"):  # a word that is meant as an option
                raise error from None
            how = f"{error.message} To give what begins with - as it is, put -- before it."  # a text may
            raise click.NoSuchOption(error.option_name, how, ctx=error.ctx) from None
        except Problem as problem:
            if as_json:
                output.json_problem(problem.document())
            else:
                output.refuse(problem.title, problem.detail)
                for fault in problem.errors[1:]:
                    click.echo(f"{fault['pointer']}: {fault['detail']}", err=True)
            ctx.exit(1)
        except Unreachable as error:
            look = " Look whether it was done before you do it again." if error.unsure else ""
            _say("No answer came", f"{error}.{look}", as_json)
            ctx.exit(3)
        except NestrelError as error:
            _say("This could not be done", str(error), as_json)
            ctx.exit(1)
        except KeyboardInterrupt:
            ctx.exit(130)
        except BrokenPipeError:
            # Whoever read our output has gone; python would complain once more when it flushes at exit.
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            ctx.exit(0)
