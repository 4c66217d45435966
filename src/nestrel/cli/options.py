"""Options and errors that commands share."""

from __future__ import annotations

import functools
import os
import sys
from collections.abc import Callable
from difflib import get_close_matches
from importlib.util import find_spec
from typing import TYPE_CHECKING, Any, TextIO, TypeVar, cast

import click

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

    @click.option("--url", envvar="NESTREL_URL", default=DEFAULT_URL, show_default=True, help="The service's address.")
    @click.option("--token", envvar="NESTREL_TOKEN", help="A bearer token; by default from NESTREL_TOKEN. What stands "
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
        # httpx brings a command line of its own, with all that it draws, unless that cannot be imported.
        sys.modules.setdefault("httpx._main", cast(Any, None))
        from nestrel.client import Client

        with Client(url, token) as client:
            return command(*args, client=client, **kwargs)

    return run


def settings_or_exit(**overrides: object) -> Settings:
    """The settings, or exit 2 with what is wrong with them."""
    from nestrel.service.settings import SettingsError, load_settings  # late: it brings the service's libraries

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


class Refusable(click.Group):
    """A group whose commands end with exit code 1 and two lines on stderr when the service refuses."""

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
        try:
            return super().invoke(ctx)
        except click.NoSuchOption as error:
            if error.possibilities or error.option_name.startswith("--"):  # a word that is meant as an option
                raise
            how = f"{error.message} To give what begins with - as it is, put -- before it."  # a text may
            raise click.NoSuchOption(error.option_name, how, ctx=error.ctx) from None
        except Problem as problem:
            output.refuse(problem.title, problem.detail)
            for fault in problem.errors[1:]:
                click.echo(f"{fault['pointer']}: {fault['detail']}", err=True)
            ctx.exit(1)
        except Unreachable as error:
            output.refuse("No answer came", f"{error}. If this was to change something, look whether it did.")
            ctx.exit(1)
        except NestrelError as error:
            output.refuse("This could not be done", str(error))
            ctx.exit(1)
        except KeyboardInterrupt:
            ctx.exit(130)
        except BrokenPipeError:
            # Whoever read our output has gone; python would complain once more when it flushes at exit.
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            ctx.exit(0)
