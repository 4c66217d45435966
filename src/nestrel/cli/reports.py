"""Report messages, and settle what was reported."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal, cast

import click

from nestrel.cli import output
from nestrel.cli.options import CONVERSATION, as_json, with_client

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, Report

_State = Literal["open", "done"]


@click.group()
def reports() -> None:
    """What readers have reported, for those who judge."""


@reports.command("list")
@click.option("--state", type=click.Choice(["open", "done", "all"]), default="open", show_default=True)
@as_json
@with_client
def list_(client: Client, state: str, as_json: bool) -> None:
    """List the reports of conversations in which you are owner or moderator, newest first; a backend's are all."""
    wanted = None if state == "all" else cast(_State, state)
    found = list(client.reports(state=wanted))
    for one in found:
        if as_json:
            output.json_line(one)
        else:
            _show(one)
    if not found and not as_json:
        click.echo("nothing was reported where you judge")


def _show(one: Report) -> None:
    at = f"{one.reported_at.astimezone():%Y-%m-%d %H:%M}"
    click.echo(f"{one.report_id}  {one.state}  {at}  {output.one_line(one.reported_by)}: {output.one_line(one.reason)}")
    said = "(no longer kept)" if one.message is None else output.one_line(one.message.body)
    click.echo(f"    {one.conversation_id} {one.seq}  {output.one_line(one.author_id)}: {said}")


@reports.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("seq", type=click.IntRange(1))
@click.argument("reason")
@as_json
@with_client
def make(client: Client, conversation: str, seq: int, reason: str, as_json: bool) -> None:
    """Report message SEQ of CONVERSATION for REASON.

    What it says now stays readable to those who judge for 30 days, whatever its author does.
    """
    made = client.report(client.find(conversation).id, seq, reason)
    if as_json:
        output.json_line(made)
    else:
        click.echo(f"reported, as {made.report_id}")


@reports.command()
@click.argument("report_id", metavar="ID")
@click.option("--open", "again", is_flag=True, help="Open it again.")
@as_json
@with_client
def settle(client: Client, report_id: str, again: bool, as_json: bool) -> None:
    """Settle the report ID."""
    settled = client.settle(report_id, "open" if again else "done")
    if as_json:
        output.json_line(settled)
    else:
        click.echo(f"the report is {settled.state}")
