"""Erase a person."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import click

from nestrel.cli import output
from nestrel.cli.options import as_json, with_client

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, Erasure

_PAUSE_SECONDS = 0.2


@click.command()
@click.argument("user", required=False)
@click.option("--records", is_flag=True, help="List who has been erased, and when, instead.")
@click.option("--preview", "only_preview", is_flag=True, help="Show what would be emptied, and change nothing.")
@click.option(
    "--identity",
    is_flag=True,
    help="Erase the user id as well: memberships, reactions and mentions end, another name is shown as the author, and "
    "nobody signs in with the id.",
)
@click.option("--give-back", metavar="RECORD", help="Let the id of an erased identity be somebody's again, instead.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@as_json
@with_client
def erase(
    client: Client,
    user: str | None,
    records: bool,
    only_preview: bool,
    identity: bool,
    give_back: str | None,
    yes: bool,
    as_json: bool,
) -> None:
    """Empty everything that USER has written, live and archived, and their profile, for good.

    Their messages become tombstones, earlier bodies go, and the name and picture; a record of the act stays. How many
    messages that are is shown first, and you are asked. For a trusted backend.
    """
    if records:
        for record in client.erasures():
            _list(record, as_json)
        return
    if give_back is not None:
        client.delete_erasure(give_back)
        if not as_json:
            click.echo(f"deleted the record {give_back}; whoever signs in with that id is somebody new")
        return
    if user is None:
        raise click.UsageError("name a USER, or pass --records")
    found = client.preview_erasure(user)
    if as_json and only_preview:
        output.json_line(found)
        return
    if not as_json:
        who = output.one_line(found.display_name)
        _table({"user": user if who == user else f"{user} ({who})", "live messages": found.messages,
                "archived messages": found.archived, "conversations": found.conversations})  # fmt: skip
    if only_preview:
        return
    if not yes:
        what = f"{user} and the user id" if identity else user
        click.confirm(f"Erase {what} for good?", abort=True, err=as_json)
    record = client.erase(user, identity=identity)
    with output.progress("messages emptied", found.messages + found.archived) as advance:
        while record.finished_at is None:
            time.sleep(_PAUSE_SECONDS)
            record = client.erasure(record.id)
            advance(record.messages + record.archived)
    _say(record, as_json)


def _list(record: Erasure, as_json: bool) -> None:
    if as_json:
        output.json_line(record)
        return
    emptied = output.counted(record.messages + record.archived, "message")
    state = f"{record.finished_at:%Y-%m-%d %H:%M}" if record.finished_at is not None else "under way"
    user, asker = output.one_line(record.user_id), output.one_line(record.asked_by)
    click.echo(f"{state}  {user}  {emptied}, asked by {asker}, record {record.id}")


def _say(record: Erasure, as_json: bool) -> None:
    if as_json:
        output.json_line(record)
        return
    emptied = record.messages + record.archived
    what, where = output.counted(emptied, "message"), output.counted(record.conversations, "conversation")
    click.echo(f"emptied {what} in {where}; record {record.id}")
    if record.shown_as is not None:
        click.echo(f"the author is shown as {record.shown_as}; nobody signs in with the id any more")


def _table(rows: dict[str, object]) -> None:
    table = output.grid(headings=False)
    table.add_column(style="cyan")
    table.add_column(justify="right")
    for label, value in rows.items():
        table.add_row(label, f"{value:,}" if isinstance(value, int) else output.one_line(str(value)))
    output.console().print(table)
