"""Keep people out, block, suspend and sign out."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import click

from nestrel.cli import output
from nestrel.cli.invitations import Seconds
from nestrel.cli.options import CONVERSATION, as_json, with_client

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client

_for = click.option("--for", "seconds", type=Seconds(), metavar="DURATION", help="For how long, as in P7D or PT12H "
                    "(ISO 8601); by default for good.")  # fmt: skip
_reason = click.option("--reason", help="Why; kept beside it.")


def _until(seconds: int | None) -> datetime | None:
    return None if seconds is None else datetime.now(UTC) + timedelta(seconds=seconds)


def _end(until: datetime | None) -> str:
    return "for good" if until is None else f"until {until.astimezone():%Y-%m-%d %H:%M}"


@click.group("kept-out")
def kept_out() -> None:
    """Keep people out of a conversation. CONVERSATION is an id or a name; for its owners and moderators."""


@kept_out.command("list")
@click.argument("conversation", type=CONVERSATION)
@as_json
@with_client
def list_kept_out(client: Client, conversation: str, as_json: bool) -> None:
    """List who is kept out of CONVERSATION now."""
    found = list(client.kept_out(client.find(conversation).id))
    if as_json:
        for one in found:
            output.json_line(one)
        return
    if not found:
        click.echo("nobody is kept out")
        return
    table = output.grid()
    for name in ("user", "since", "how long", "by", "reason"):
        table.add_column(name, overflow="fold")
    for one in found:
        since = f"{one.kept_out_at.astimezone():%Y-%m-%d %H:%M}"
        by, reason = output.one_line(one.kept_out_by), output.one_line(one.reason or "")
        table.add_row(output.one_line(one.user_id), since, _end(one.until), by, reason)
    output.console().print(table, markup=False)


@kept_out.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("user")
@_for
@_reason
@as_json
@with_client
def add(client: Client, conversation: str, user: str, seconds: int | None, reason: str | None, as_json: bool) -> None:
    """Remove USER, if a member, and keep them out: to them CONVERSATION does not exist then."""
    kept = client.keep_out(client.find(conversation).id, user, until=_until(seconds), reason=reason)
    if as_json:
        output.json_line(kept)
    else:
        click.echo(f"{output.one_line(user)} is kept out {_end(kept.until)}")


@kept_out.command("let-in")
@click.argument("conversation", type=CONVERSATION)
@click.argument("user")
@with_client
def let_in(client: Client, conversation: str, user: str) -> None:
    """Keep USER out no longer; they can join, or be added."""
    client.let_in(client.find(conversation).id, user)
    click.echo(f"{output.one_line(user)} may come back")


@click.group()
def blocked() -> None:
    """Block people: no direct conversation with one another, and no being added by them."""


@blocked.command("list")
@as_json
@with_client
def list_blocked(client: Client, as_json: bool) -> None:
    """List whom you block."""
    found = list(client.blocked())
    for one in found:
        if as_json:
            output.json_line(one)
        else:
            click.echo(f"{output.one_line(one.user_id)}  since {one.blocked_at.astimezone():%Y-%m-%d %H:%M}")
    if not found and not as_json:
        click.echo("you block nobody")


@blocked.command("add")
@click.argument("user")
@with_client
def block(client: Client, user: str) -> None:
    """Block USER. They are not told."""
    client.block(user)
    click.echo(f"{output.one_line(user)} is blocked")


@blocked.command("remove")
@click.argument("user")
@with_client
def unblock(client: Client, user: str) -> None:
    """Block USER no longer."""
    client.unblock(user)
    click.echo(f"{output.one_line(user)} is not blocked")


@click.group()
def suspension() -> None:
    """Suspend people from the whole service; for a trusted backend."""


@suspension.command("begin")
@click.argument("user")
@_for
@_reason
@as_json
@with_client
def suspend(client: Client, user: str, seconds: int | None, reason: str | None, as_json: bool) -> None:
    """Refuse every call of USER's, and end their connections, on every process within 5 s."""
    kept = client.suspend(user, until=_until(seconds), reason=reason)
    if as_json:
        output.json_line(kept)
    else:
        click.echo(f"{output.one_line(user)} is suspended {_end(kept.until)}")


@suspension.command("end")
@click.argument("user")
@with_client
def end_suspension(client: Client, user: str) -> None:
    """Let USER in again."""
    client.end_suspension(user)
    click.echo(f"{output.one_line(user)} may come back")


@click.command("sign-out")
@click.argument("user")
@as_json
@with_client
def sign_out(client: Client, user: str, as_json: bool) -> None:
    """End all tokens that USER has by now, and their connections.

    For a trusted backend. Tokens that are issued later are taken.
    """
    ended = client.sign_out(user)
    if as_json:
        output.json_line(ended)
    else:
        click.echo(f"tokens issued up to {ended.not_before.astimezone():%Y-%m-%d %H:%M:%S} are taken no more")


@click.command("export-person")
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option("--user", default="me", help="Whose; as a trusted backend. By default yours.")
@with_client
def export_person(client: Client, file: Path, user: str) -> None:
    """Write all that is kept about a person into FILE, a ZIP.

    What they wrote, live and archived, the files that they sent, and every row about them.
    """
    part = file.with_name(file.name + ".part")
    try:
        with part.open("wb") as out:
            for chunk in client.export_person(user):
                out.write(chunk)
        part.replace(file)
    except OSError as error:
        raise click.ClickException(f"{file} cannot be written: {error.strerror}") from None
    finally:
        part.unlink(missing_ok=True)
    click.echo(f"{file}: {output.size(file.stat().st_size)}", err=True)
