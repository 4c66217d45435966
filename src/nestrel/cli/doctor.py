"""Look at everything that Nestrel needs, and say what is missing."""

from __future__ import annotations

import sys

import click

from nestrel.cli import output
from nestrel.cli.options import of_the_service


@click.command()
@click.option(
    "--url", envvar="NESTREL_URL", show_envvar=True,
    help="The service's address; by default where NESTREL_HOST and NESTREL_PORT say that it listens.",
)  # fmt: skip
@click.option("--json", "as_json", is_flag=True, help="Print JSON Lines, one object a line.")
@of_the_service
def doctor(url: str | None, as_json: bool) -> None:
    """Check settings, database and service; exit 1 if something is missing."""
    from nestrel.cli.findings import look

    findings = look(url)
    for what, good, detail in findings:
        if as_json:
            output.json_line({"check": what, "ok": good, "detail": detail})
        else:
            mark = click.style("good", fg="green") if good else click.style("look", fg="yellow", bold=True)
            click.echo(f"{mark}  {what:<26} {detail}")
    sys.exit(0 if all(good for _, good, _ in findings) else 1)
