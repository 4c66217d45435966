"""Send and fetch the files that belong to messages."""

from __future__ import annotations

import contextlib
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from nestrel.cli import output
from nestrel.cli.options import CONVERSATION, as_json, with_client

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Attachment, Client


@click.group()
def attachments() -> None:
    """The files that belong to messages. CONVERSATION is an id or a name."""


@attachments.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("what", metavar="SEQ|ID")
@click.option("--into", type=click.Path(path_type=Path), default=Path(), metavar="PATH",
              help="A folder, or for a single file its new name; by default the present folder.")  # fmt: skip
@click.option("--preview", type=click.Choice(["320", "960"]), metavar="WIDTH",
              help="The small WebP of each picture instead, 320 or 960 pixels wide.")  # fmt: skip
@with_client
def get(client: Client, conversation: str, what: str, into: Path, preview: str | None) -> None:
    """Fetch the attachments of message SEQ, or the one that has this ID. No file is written over."""
    place = client.find(conversation).id
    wanted: list[Attachment | str] = [what]
    if what.isdecimal():
        wanted = list(client.message(place, int(what)).attachments)
        if not wanted:
            raise click.ClickException(f"message {what} has no attachments")
    if len(wanted) > 1 and not into.is_dir():
        raise click.UsageError(f"message {what} has {len(wanted)} attachments; name a folder with --into")
    with writing():
        for one in wanted:
            if preview is not None:
                path = _preview(client, place, one, preview, into)
            else:
                label = "fetching" if isinstance(one, str) else f"fetching {output.one_line(one.name)}"
                with output.transfer(label) as advance:
                    path = client.download(place, one, into, progress=advance)
            click.echo(f"{output.one_line(str(path))}  {output.size(path.stat().st_size)}")


def _preview(client: Client, place: str, one: Attachment | str, width: str, into: Path) -> Path:
    id_, name = (one, one) if isinstance(one, str) else (one.attachment_id, Path(one.name).stem)
    content = client.preview(place, id_, 320 if width == "320" else 960)
    path = into / f"{name}-{width}.webp" if into.is_dir() else into
    with path.open("xb") as file:
        file.write(content)
    return path


@attachments.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("attachment_id", metavar="ID")
@click.option("--seconds", type=click.IntRange(1, 86_400), default=3_600, show_default=True,
              help="How long it works, a day at most.")  # fmt: skip
@as_json
@with_client
def link(client: Client, conversation: str, attachment_id: str, seconds: int, as_json: bool) -> None:
    """Make an address for attachment ID that needs no token; whoever has it reads the file while you may."""
    made = client.link(client.find(conversation).id, attachment_id, expires_in=seconds)
    if as_json:
        output.json_line(made)
    else:
        click.echo(made.url)
        click.echo(f"until {made.expires_at.astimezone():%Y-%m-%d %H:%M:%S}", err=True)


def send(client: Client, conversation_id: str, file: Path, on_behalf_of: str | None) -> Attachment:
    """Upload a file, with a bar on a terminal."""
    try:
        with output.transfer(f"sending {output.one_line(file.name)}") as advance:
            return client.upload(conversation_id, file, on_behalf_of=on_behalf_of, progress=advance)
    except OSError as error:
        raise click.ClickException(f"cannot read {file}: {error.strerror or error}") from None


def fetch_all(client: Client, found: Iterable[tuple[str, str, str, int]], folder: Path) -> tuple[int, int]:
    """Fetch attachments, given by conversation, id, hash and size, into files that are called by their hash; how many
    are there now, and how many could not be had any more. What is there already is not fetched again."""
    from nestrel.client import Expired, NotFound

    wanted = {sha256: (place, id_, size) for place, id_, sha256, size in found}
    lost = 0
    with writing():
        folder.mkdir(parents=True, exist_ok=True)
        with output.progress("files written", len(wanted)) as advance:
            for n, (sha256, (place, id_, _)) in enumerate(wanted.items(), 1):
                with contextlib.suppress(FileExistsError):
                    try:
                        client.download(place, id_, folder / sha256)
                    except (Expired, NotFound):
                        lost += 1
                advance(n)
    return len(wanted) - lost, lost


@contextlib.contextmanager
def writing() -> Iterator[None]:
    """What goes wrong with a file of one's own, in words."""
    try:
        yield
    except FileExistsError as error:
        raise click.ClickException(
            str(error) if error.errno is None else f"{error.filename} is there already"
        ) from None
    except OSError as error:
        raise click.ClickException(f"cannot write: {error.strerror or error}") from None
