"""The archive of a conversation: list its segments, read one, verify and export them."""

from __future__ import annotations

import sys
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

import click
import orjson

import nestrel.client
from nestrel.cli import output
from nestrel.cli.options import CONVERSATION, as_json, with_client
from nestrel.cli.transfer import FORM, INTO, write

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import ArchiveSegment, Client


@click.group()
def archive() -> None:
    """What retention has archived. CONVERSATION is an id or a name; for its owners and trusted backends."""


@archive.command("list")
@click.argument("conversation", type=CONVERSATION)
@as_json
@with_client
def list_(client: Client, conversation: str, as_json: bool) -> None:
    """List the segments, oldest first."""
    place = client.find(conversation).id
    items = list(client.archive(place))
    if as_json:
        for item in items:
            output.json_line(item)
        return
    for run in reversed(client.archive_page(place, limit=1).discarded):
        click.echo(f"{run.first_seq:,} to {run.last_seq:,} were discarded by the rule", err=True)
    if not items:
        click.echo("nothing is archived here")
        return
    table = output.grid()
    for name, right in (("segment", True), ("from", True), ("to", True), ("messages", True), ("bytes", True)):
        table.add_column(name, justify="right" if right else "left")
    table.add_column("archived")
    table.add_column("sha256", style="dim", overflow="ellipsis", no_wrap=True, max_width=16)
    for item in items:
        when = item.archived_at.strftime("%Y-%m-%d %H:%M")
        table.add_row(
            str(item.segment), f"{item.first_seq:,}", f"{item.last_seq:,}", f"{item.messages:,}", f"{item.bytes:,}",
            when, item.sha256,
        )  # fmt: skip
    output.console().print(table)


@archive.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("segment", type=click.IntRange(1))
@as_json
@with_client
def show(client: Client, conversation: str, segment: int, as_json: bool) -> None:
    """Show the messages of SEGMENT; with --json its lines as they are kept."""
    content = client.archive_segment(client.find(conversation).id, segment)
    if as_json:
        sys.stdout.buffer.write(content)
        sys.stdout.buffer.flush()
        return
    for line in content.splitlines():
        fields = orjson.loads(line)
        output.message_line(
            nestrel.client.Message.model_validate({name: fields[name] for name in nestrel.client.Message.model_fields}),
            {},
        )


@archive.command()
@click.argument("conversation", type=CONVERSATION)
@as_json
@with_client
def verify(client: Client, conversation: str, as_json: bool) -> None:
    """Read every segment back and compare it with its hash, its count and its numbers. Exit code 1 if one differs."""
    place = client.find(conversation).id
    checked, faults = 0, 0
    for item in client.archive(place):
        fault = _fault(item, client.archive_segment(place, item.segment))
        checked, faults = checked + 1, faults + (fault is not None)
        if as_json:
            output.json_line({"segment": item.segment, "ok": fault is None, "fault": fault})
        elif fault is not None:
            click.echo(f"segment {item.segment}: {fault}", err=True)
    if not as_json:
        whole = "whole" if not faults else f"{faults:,} not whole"
        click.echo(f"{output.counted(checked, 'segment')} read: {whole}")
    if faults:
        raise SystemExit(1)


def _fault(item: ArchiveSegment, content: bytes) -> str | None:
    """What is wrong with a segment, if anything is."""
    if sha256(content).hexdigest() != item.sha256 or len(content) != item.bytes:
        return "its content is not what its hash and size say"
    seqs = [orjson.loads(line)["seq"] for line in content.splitlines()]
    if seqs != list(range(item.first_seq, item.last_seq + 1)) or len(seqs) != item.messages:
        return f"it should hold {item.first_seq} to {item.last_seq}, and does not"
    return None


@archive.command("export")
@click.argument("conversation", type=CONVERSATION)
@FORM
@INTO
@with_client
def export(client: Client, conversation: str, form: str, into: Path | None) -> None:
    """Write all archived messages as JSON Lines or CSV."""
    write(client.export(client.find(conversation).id, part="archive", form="csv" if form == "csv" else "jsonl"), into)
