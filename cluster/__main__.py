"""`script/cluster`: start the cluster, look at it, and do it harm."""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path
from typing import Any

import click

from cluster.parts import Kind
from cluster.standing import Cluster, ClusterError
from nestrel.service.settings import default_data_dir

_NET = 77
_WELCOME = """
  Nestrel runs on three machines, which are addresses of this one.

  console   {url}/console/
  command   export NESTREL_URL={url}
            export NESTREL_TOKEN=$(NESTREL_JWT_SECRET={secret} NESTREL_ISSUER={issuer} \\
                NESTREL_AUDIENCE=nestrel-demo nestrel token mara)
  harm      script/cluster kill primary; script/cluster status; script/cluster heal postgres-1

  script/cluster stop ends it; the data stays in {folder}.
"""


def _told(command: Callable[..., Any]) -> Callable[..., Any]:
    """Give a command the cluster, and its errors as text."""

    @click.pass_obj
    @functools.wraps(command)
    def run(folder: Path, *args: Any, **kwargs: Any) -> Any:
        try:
            return command(Cluster(folder, _NET), *args, **kwargs)
        except ClusterError as error:
            raise click.ClickException(str(error)) from None

    return run


@click.group(invoke_without_command=True)
@click.option("--folder", type=click.Path(path_type=Path), default=default_data_dir() / "cluster", show_default=True,
              help="Where the parts keep their data and their logs.")  # fmt: skip
@click.pass_context
def main(context: click.Context, folder: Path) -> None:
    """Start the cluster on loopback, with the demo's data; what runs already stays as it is."""
    context.obj = folder
    if context.invoked_subcommand is None:
        context.invoke(start)


@main.command()
@_told
def start(cluster: Cluster) -> None:
    """Start what does not run (also without this word)."""
    cluster.start(click.echo)
    issuer = f"http://{cluster.places.of(Kind.ISSUER)[0].at}"
    click.echo(_WELCOME.format(url=cluster.places.url, secret=cluster.secret, issuer=issuer, folder=cluster.folder))


@main.command()
@_told
def status(cluster: Cluster) -> None:
    """Say of each part what it is, where, and whether it runs."""
    roles = cluster.roles()
    for part in cluster.places.parts.values():
        role = roles.get(part.name, "") if part.kind is Kind.POSTGRES else ""
        role = cluster.redis_role(part) if part.kind is Kind.REDIS else role
        state = cluster.state(part)
        colour = {"runs": "green", "frozen": "yellow", "dead": "red"}[state]
        click.echo(f"{part.name:<12} {part.at:<18} {click.style(f'{state:<7}', fg=colour)} {role.replace('_', ' ')}")


@main.command()
@click.argument("name")
@_told
def kill(cluster: Cluster, name: str) -> None:
    """End all processes of NAME at once; NAME may be primary, standby or redis-primary."""
    click.echo(f"killed {cluster.kill(name).name}")


@main.command()
@click.argument("name")
@_told
def freeze(cluster: Cluster, name: str) -> None:
    """Stop all processes of NAME where they are; its connections stay open."""
    click.echo(f"froze {cluster.freeze(name).name}")


@main.command()
@click.argument("name")
@_told
def heal(cluster: Cluster, name: str) -> None:
    """Let NAME go on where it is frozen, start it where it is dead."""
    click.echo(f"healed {cluster.heal(name).name}")


@main.command()
@_told
def switch(cluster: Cluster) -> None:
    """Make the synchronous standby the primary, in order."""
    click.echo("{} was the primary, {} is it now".format(*cluster.switch()))


@main.command(context_settings={"ignore_unknown_options": True, "help_option_names": []})
@click.argument("options", nargs=-1, type=click.UNPROCESSED)
def faults(options: tuple[str, ...]) -> None:
    """Do to a cluster of its own all that might happen, under load, and say what came of it."""
    from tests.faults import main as run  # the tests' load and checks, which this package stands below

    run(options, prog_name="script/cluster faults")


@main.command()
@_told
def stop(cluster: Cluster) -> None:
    """End everything; the data stays."""
    cluster.stop()
    click.echo("nothing of it runs any more")


if __name__ == "__main__":
    main(prog_name="script/cluster")
