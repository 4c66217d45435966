"""What is used, who is connected, and what was done; for a trusted backend."""

from __future__ import annotations

import csv
import sys
from datetime import UTC, datetime, timedelta
from itertools import islice
from typing import TYPE_CHECKING, Any, Literal, cast

import click

from nestrel.cli import output
from nestrel.cli.charts import bar
from nestrel.cli.options import as_json, with_client

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from rich.text import Text

    from nestrel.client import Client, Usage
    from nestrel.core.order_objects import AuditEntry, AuditPage

_COLUMNS = ("posts", "edits", "removals", "reactions", "receipts", "deliveries", "connections_peak", "people")


@click.command()
@click.option("--of", "of", type=click.Choice(["service", "conversation", "person"]), default="service",
              show_default=True, help="Whose.")  # fmt: skip
@click.option("--id", "id_", help="Only this conversation, by id or name, or this person.")
@click.option("--by", type=click.Choice(["hour", "day"]), default="day", show_default=True)
@click.option("--days", type=click.IntRange(1, 3_660), default=7, show_default=True, help="How far back.")
@click.option("--csv", "as_csv", is_flag=True, help="Print a table as CSV (RFC 4180).")
@as_json
@with_client
def usage(client: Client, of: str, id_: str | None, by: str, days: int, as_csv: bool, as_json: bool) -> None:
    """Show what was used: messages, deliveries, people, connections, stored bytes.

    By hour or day (UTC), at most 10 s late. For a trusted backend.
    """
    if id_ is not None and of == "conversation":
        id_ = client.find(id_).id
    found = client.usage(
        since=datetime.now(UTC) - timedelta(days=days),
        by=cast(Literal["hour", "day"], by),
        of=cast(Literal["service", "conversation", "person"], of),
        id=id_,
    )
    if as_json:
        for one in found:
            output.json_line(one)
    elif as_csv:
        _csv(list(found))
    else:
        _table(list(found), by)


def _csv(found: list[Usage]) -> None:
    fields = ("at", "id", *_COLUMNS, "stored_bytes")
    writer = csv.DictWriter(sys.stdout, fields)
    writer.writeheader()
    for one in found:
        writer.writerow({field: one.at.isoformat() if field == "at" else getattr(one, field) for field in fields})


def _table(found: list[Usage], by: str) -> None:
    if not found:
        click.echo("nothing was used in that time")
        return
    several = any(one.id is not None for one in found)
    table = output.grid()
    table.add_column("hour (UTC)" if by == "hour" else "day (UTC)")
    if several:
        table.add_column("whose", overflow="fold")
    for name in ("posts", "", "others", "deliveries", "people", "peak", "stored"):
        table.add_column(name, justify="left" if not name else "right")
    most = max(one.posts for one in found)
    for one in found:
        at = one.at.astimezone(UTC).strftime("%Y-%m-%d" if by == "day" else "%Y-%m-%d %H:00")
        whose = [output.one_line(one.id or "")] if several else []
        others = one.edits + one.removals + one.reactions + one.receipts
        counts = [f"{n:,}" for n in (others, one.deliveries, one.people, one.connections_peak)]
        table.add_row(at, *whose, f"{one.posts:,}", bar(one.posts, most, 20), *counts, output.size(one.stored_bytes))
    output.console().print(table, markup=False)


@click.group()
def connections() -> None:
    """Who is connected, on all processes; for a trusted backend."""


@connections.command("list")
@click.option("--user", help="Only this person's.")
@as_json
@with_client
def list_(client: Client, user: str | None, as_json: bool) -> None:
    """List the open sockets and streams."""
    found = list(client.connections(user))
    if as_json:
        for one in found:
            output.json_line(one)
        return
    if not found:
        click.echo("nobody is connected")
        return
    table = output.grid()
    for name in ("id", "user", "kind", "since", "follows", "behind", "process"):
        table.add_column(name, justify="right" if name in ("follows", "behind") else "left", overflow="fold")
    for one in found:
        since = f"{one.since.astimezone():%Y-%m-%d %H:%M:%S}"
        table.add_row(one.connection_id, output.one_line(one.user_id), one.kind, since, str(one.follows),
                      str(one.behind), one.process)  # fmt: skip
    output.console().print(table, markup=False)


@connections.command("end")
@click.argument("connection_id", metavar="ID")
@with_client
def end(client: Client, connection_id: str) -> None:
    """End the connection ID. Whoever has it may come back."""
    client.end_connection(connection_id)
    click.echo("ended")


@click.command()
@click.option("--actor", help="Only what this user did.")
@click.option("--in", "conversation", help="Only in this conversation, by id or name.")
@click.option("--days", type=click.IntRange(1, 36_600), help="How far back; by default to the beginning.")
@click.option("-n", "--count", "--limit", type=click.IntRange(1), default=50, show_default=True,
              help="At most this many; with --json all of them unless given.")  # fmt: skip
@as_json
@with_client
def audit(
    client: Client,
    actor: str | None,
    conversation: str | None,
    days: int | None,
    count: int,
    as_json: bool,
) -> None:
    """Show what people with a role did to others, newest first.

    And what backends did for somebody. It is only ever added to. With --json it is an export. For a trusted backend.
    """
    wanted: dict[str, Any] = {
        "since": None if days is None else datetime.now(UTC) - timedelta(days=days),
        "actor": actor,
        "conversation_id": None if conversation is None else client.find(conversation).id,
    }
    if as_json:
        given = click.get_current_context().get_parameter_source("count") is not click.core.ParameterSource.DEFAULT
        found = client.audit(**wanted)
        for one in islice(found, count) if given else found:
            output.json_line(one)
        return
    out = output.console()
    entries = ((one, page) for page in client.audit_pages(**wanted) for one in page.items)
    for one, page in islice(entries, count):
        out.print(_entry(one, page))


def _entry(one: AuditEntry, page: AuditPage) -> Text:
    """A line of the audit for people: names, and words."""
    from rich.text import Text

    def name(user_id: str) -> str:
        return output.one_line(page.profiles[user_id].display_name if user_id in page.profiles else user_id)

    id_ = one.conversation_id
    where = [] if id_ is None else [f"in {output.called(page.conversations.get(id_), id_)}"]
    where += [] if one.seq is None else [f"message {one.seq}"]
    said = "; ".join(part for part in (one.text, one.reason) if part)
    return Text.assemble(
        (f"{one.at.astimezone():%Y-%m-%d %H:%M}", "dim"),
        "  ",
        (name(one.actor), "bold"),
        f"  {one.act.replace('-', ' ')}",
        ("" if one.user_id is None else f" {name(one.user_id)}", "bold"),
        (f"  {output.one_line(', '.join(where))}" if where else "", "cyan"),
        f"  {output.one_line(said)}" if said else "",
    )
