"""Messages out and in, as JSON Lines or CSV."""

from __future__ import annotations

import codecs
import contextlib
import io
import os
import sys
from collections.abc import Generator, Iterable, Iterator
from itertools import groupby
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO, Literal, cast

import click
import orjson

import nestrel.client
from nestrel.cli import output
from nestrel.cli.attachments import fetch_all
from nestrel.cli.options import CONVERSATION, as_json, with_client
from nestrel.core import spreadsheets

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, ImportProgress, RefusedLine

FORM = click.option("--form", type=click.Choice(["jsonl", "csv"]), default="jsonl", show_default=True,
                    help="JSON Lines with all that is known of each message, or CSV for a spreadsheet.")  # fmt: skip
INTO = click.option("--into", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE",
                    help="A new file; by default standard output.")  # fmt: skip


_TOLD = 20
"""Refused lines that a person is told of, one by one."""


@click.command()
@click.argument("conversation", type=CONVERSATION, required=False)
@click.option("--all", "everything", is_flag=True, help="Every conversation; for a trusted backend.")
@click.option("--part", type=click.Choice(["live", "archive", "all"]), default="live", show_default=True,
              help="What is kept, what is archived, or both.")  # fmt: skip
@FORM
@INTO
@click.option("--files", type=click.Path(file_okay=False, path_type=Path), metavar="DIR",
              help="Also fetch their attachments into this folder, each file called by its SHA-256.")  # fmt: skip
@with_client
def export(
    client: Client,
    conversation: str | None,
    everything: bool,
    part: str,
    form: str,
    into: Path | None,
    files: Path | None,
) -> None:
    """Write the messages of CONVERSATION (an id or a name) in order, as of now."""
    if (conversation is None) is not everything:
        raise click.UsageError("name a CONVERSATION, or pass --all")
    if files is not None and form == "csv":
        raise click.UsageError("--files goes with --form jsonl, which an import takes")
    place = client.find(conversation).id if conversation is not None else None
    chunks = client.export(
        place, part=cast(Literal["live", "archive", "all"], part), form="csv" if form == "csv" else "jsonl"
    )
    if files is None:
        write(chunks, into)
        return
    found: list[tuple[str, str, str, int]] = []
    write(_noting_files(chunks, found), into)
    there, lost = fetch_all(client, found, files)
    click.echo(f"{output.counted(there, 'file')} in {files}", err=into is None)
    if lost:
        click.echo(f"{output.counted(lost, 'file')} went while the export ran", err=True)


def _noting_files(chunks: Generator[bytes], found: list[tuple[str, str, str, int]]) -> Generator[bytes]:
    """The same chunks; the attachments of their lines go into `found`."""
    rest = b""
    with contextlib.closing(chunks):
        for chunk in chunks:
            *lines, rest = (rest + chunk).split(b"\n")
            for line in lines:
                if b'"attachments":[{' in line:
                    message = orjson.loads(line)
                    found += [
                        (message["conversation_id"], one["attachment_id"], one["sha256"], one["bytes"])
                        for one in message["attachments"]
                    ]
            yield chunk


def _safe(chunks: Iterable[bytes]) -> Iterator[bytes]:
    """The same for a terminal, which nothing that somebody wrote may steer. A character may begin in one chunk and end
    in the next."""
    decoder = codecs.getincrementaldecoder("utf-8")("replace")
    for chunk in chunks:
        yield output.visible(decoder.decode(chunk), ends=True).encode()


def write(chunks: Generator[bytes], into: Path | None) -> None:
    """Write an export to a file that is there only once it is whole, or to standard output."""
    if into is None:
        with contextlib.closing(chunks):  # whoever reads our output may leave in the middle
            for chunk in _safe(chunks) if sys.stdout.isatty() else chunks:
                sys.stdout.buffer.write(chunk)
            sys.stdout.buffer.flush()
        return
    if into.exists():
        raise click.UsageError(f"{into} is there already; name a new file")
    part = into.with_name(f"{into.name}.part")
    lines = size = 0
    try:
        with (
            os.fdopen(os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb") as file,
            output.progress("messages written") as advance,
        ):
            for chunk in chunks:
                file.write(chunk)
                lines, size = lines + chunk.count(b"\n"), size + len(chunk)
                advance(lines)
            advance(lines, lines)
        os.replace(part, into)
    except OSError as error:
        raise click.ClickException(f"cannot write {into}: {error.strerror or error}") from None
    finally:
        part.unlink(missing_ok=True)
    click.echo(f"{lines:,} lines, {size:,} bytes, in {into}")


@click.command("import")
@click.argument("file", type=click.File("rb"))
@click.option("--to", "conversation", metavar="CONVERSATION", help="Where all of it goes, an id or a name; by default "
              "each line goes to the conversation that it names.")  # fmt: skip
@click.option("--files", type=click.Path(exists=True, file_okay=False, path_type=Path), metavar="DIR",
              help="Where the files of their attachments are, as an export has put them there.")  # fmt: skip
@click.option("--without-files", is_flag=True, help="Leave attachments out; else lines that have some are refused.")
@click.option("--form", type=click.Choice(["jsonl", "csv"]), default="jsonl", show_default=True,
              help="JSON Lines, or CSV as `export --form csv` writes it.")  # fmt: skip
@click.option("--columns", metavar="NAMES", help="What the columns of a CSV are that does not name them in its first "
              "row, with commas between.")  # fmt: skip
@as_json
@with_client
def import_(
    client: Client,
    file: BinaryIO,
    conversation: str | None,
    files: Path | None,
    without_files: bool,
    form: str,
    columns: str | None,
    as_json: bool,
) -> None:
    """Bring in messages from FILE, or from standard input with -, as JSON Lines or CSV like those of an export.

    Each line has at least author_id and body; created_at, format, attributes, reply_to, and the key or the seq at its
    source are taken too. Lines come in the order of time. What is there already is not added again, so that an import
    that was cut short is simply run again. For a trusted backend.
    """
    if columns is not None and form != "csv":
        raise click.UsageError("--columns goes with --form csv")
    total = Totals(as_json)
    lines_of = _lines(file, form, None if columns is None else [name.strip() for name in columns.split(",")])
    size = os.fstat(file.fileno()).st_size if file.seekable() else None
    with output.progress("bytes read", size) as advance:
        start = 1
        for place, lines in _grouped(lines_of, conversation):
            if isinstance(place, ValueError):
                for _ in lines:
                    total.refuse([nestrel.client.RefusedLine(line=start, detail=str(place))])
                    start += 1
                continue
            read = 0
            importer = nestrel.client.Importer(start)
            for step in client.import_lines(
                client.find(place).id, lines, importer, files=files, without_files=without_files
            ):
                total.take(step)
                read = step.lines
                advance(total.size + step.bytes)
            total.finish()
            start += read
    total.say()
    if total.refused:
        raise SystemExit(1)


def _lines(file: BinaryIO, form: str, columns: list[str] | None) -> Iterator[bytes]:
    """The lines of a file as JSON Lines, whatever its form. A first line that is plainly none is told at once, and not
    with every line."""
    if form == "csv":
        try:
            yield from spreadsheets.read(io.TextIOWrapper(file, encoding="utf-8-sig", newline=""), columns)
        except (ValueError, UnicodeDecodeError) as error:
            raise click.ClickException(str(error)) from None
        return
    for n, line in enumerate(file):
        if n == 0 and not line.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"{") and line.strip():
            looks = "it looks like CSV: pass --form csv" if b"," in line else "each line must be a JSON object"
            raise click.ClickException(f"{file.name} is not JSON Lines; {looks}")
        yield line


def _grouped(file: Iterable[bytes], conversation: str | None) -> Iterator[tuple[str | ValueError, Iterator[bytes]]]:
    """Runs of lines that go to one conversation; an error for those that do not say where they go."""
    if conversation is not None:
        yield conversation, iter(file)
        return

    def place(line: bytes) -> Any:
        try:
            return orjson.loads(line)["conversation_id"] if line.strip() else None
        except (orjson.JSONDecodeError, KeyError, TypeError):
            return None

    for name, lines in groupby(file, place):
        if isinstance(name, str):
            yield name, lines
        else:
            yield ValueError("does not say which conversation it goes to; pass --to, or give conversation_id"), lines


class Totals:
    """What an import of several conversations has come to. The first refused lines are told as they come; where nothing
    but such lines has come by then, the file is another one than was meant."""

    def __init__(self, as_json: bool) -> None:
        self._as_json = as_json
        self._added = self._repeated = self._unlinked = self.refused = self._taken = 0
        self.size = 0
        self._now: ImportProgress | None = None

    def take(self, step: ImportProgress) -> None:
        self._now = step
        self._taken += step.added + step.repeated
        self.refuse(step.refused)

    def refuse(self, lines: Iterable[RefusedLine]) -> None:
        for line in lines:
            self.refused += 1
            if self._as_json:
                output.json_line(line)
            elif self.refused <= _TOLD:
                click.echo(f"line {line.line:,}: {output.one_line(line.detail)}", err=True)
            if self.refused == _TOLD and not self._taken:
                raise click.ClickException(
                    f"the first {_TOLD} lines were all refused, so that nothing more was tried and nothing was added. "
                    "Each line must be a message with author_id and body; nestrel import --help says more"
                )
            if self.refused == _TOLD + 1 and not self._as_json:
                click.echo("further refused lines are only counted; --json tells them all", err=True)

    def finish(self) -> None:
        """One conversation is done."""
        if self._now is not None:
            self._added += self._now.added
            self._repeated += self._now.repeated
            self._unlinked += self._now.unlinked
            self.size += self._now.bytes
        self._now = None

    def say(self) -> None:
        counts = {"added": self._added, "already there": self._repeated, "refused": self.refused}
        if self._as_json:
            output.json_line({"added": self._added, "repeated": self._repeated, "refused": self.refused,
                              "unlinked": self._unlinked})  # fmt: skip
            return
        table = output.grid(headings=False)
        table.add_column(style="cyan")
        table.add_column(justify="right")
        for label, count in counts.items():
            table.add_row(label, f"{count:,}")
        output.console().print(table)
        if self._unlinked:
            click.echo(f"{self._unlinked:,} went in without the message that they reply to, which was not among the "
                       "lines", err=True)  # fmt: skip
