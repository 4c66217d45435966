"""Completion of commands by a shell."""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class

_PROGRAM = "nestrel"


@click.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
@click.pass_context
def completion(ctx: click.Context, shell: str) -> None:
    """Print what makes SHELL complete commands, options and the names of conversations.

    \b
    bash: nestrel completion bash > ~/.local/share/bash-completion/completions/nestrel
    zsh:  nestrel completion zsh > ~/.zfunc/_nestrel   (a folder of fpath)
    fish: nestrel completion fish > ~/.config/fish/completions/nestrel.fish

    Names of conversations come from the service that NESTREL_URL and NESTREL_TOKEN name.
    """
    made = get_completion_class(shell)
    assert made is not None
    # From its template: for bash the library would first ask which version is there.
    text = made(ctx.find_root().command, {}, _PROGRAM, f"_{_PROGRAM.upper()}_COMPLETE")
    click.echo(text.source_template % text.source_vars())
