"""Invite people into a conversation, and join by an invitation."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

import click

from nestrel.cli import output
from nestrel.cli.options import CONVERSATION, as_json, with_client
from nestrel.core.durations import Duration

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, Invitation


def _seconds(text: str) -> int:
    now = datetime.now(UTC)
    seconds = (now - Duration.parse(text).before(now)).total_seconds()
    if seconds < 1 or seconds != int(seconds):
        raise ValueError("must be a number of whole seconds")
    return int(seconds)


class Seconds(click.ParamType[int]):
    """A time from now on as ISO 8601 has it, in whole seconds."""

    name = "duration"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> int:
        try:
            return value if isinstance(value, int) else _seconds(value)
        except ValueError as error:
            self.fail(f"{value!r} {error}", param, ctx)


@click.group()
def invitations() -> None:
    """Let people join who have a token. CONVERSATION is an id or a name; for its owners and moderators."""


@invitations.command()
@click.argument("conversation", type=CONVERSATION)
@click.option("--role", type=click.Choice(["owner", "moderator", "writer", "reader"]), help="What it makes of them; by "
              "default what a new member is.")  # fmt: skip
@click.option("--uses", type=click.IntRange(1), help="How often it works; by default as often as one likes.")
@click.option("--for", "expires_in", type=Seconds(), metavar="DURATION", help="How long it works, as in P7D or PT12H "
              "(ISO 8601); by default for ever.")  # fmt: skip
@as_json
@with_client
def make(client: Client, conversation: str, as_json: bool, **wanted: Any) -> None:
    """Make an invitation and print its token, which is shown here and never again."""
    made = client.invite(client.find(conversation).id, **wanted)
    if as_json:
        output.json_line(made)
    else:
        click.echo(made.token)
        click.echo(f"makes a {made.role} of who accepts it, {_terms(made)}", err=True)


def _terms(one: Invitation) -> str:
    often = "as often as one likes" if one.uses_left is None else output.counted(one.uses_left, "time")
    until = "" if one.expires_at is None else f", until {one.expires_at.astimezone():%Y-%m-%d %H:%M}"
    return often + until


@invitations.command("list")
@click.argument("conversation", type=CONVERSATION)
@as_json
@with_client
def list_(client: Client, conversation: str, as_json: bool) -> None:
    """List the invitations of CONVERSATION, the oldest first. Their tokens are not kept."""
    found = list(client.invitations(client.find(conversation).id))
    if as_json:
        for one in found:
            output.json_line(one)
        return
    if not found:
        click.echo("nobody is invited")
        return
    table = output.grid()
    for name in ("id", "role", "by", "made", "works"):
        table.add_column(name, overflow="fold")
    for one in found:
        made = f"{one.created_at.astimezone():%Y-%m-%d %H:%M}"
        table.add_row(one.invitation_id, one.role, output.one_line(one.created_by), made, _terms(one))
    output.console().print(table, markup=False)


@invitations.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("invitation_id", metavar="ID")
@with_client
def revoke(client: Client, conversation: str, invitation_id: str) -> None:
    """Take the invitation ID back: from then on nobody joins with it."""
    client.revoke(client.find(conversation).id, invitation_id)
    click.echo("taken back")


@invitations.command()
@click.argument("invitation", metavar="TOKEN")
@as_json
@with_client
def show(client: Client, invitation: str, as_json: bool) -> None:
    """Show what the invitation TOKEN leads to."""
    found = client.invited(invitation)
    if as_json:
        output.json_line(found)
    else:
        title = output.one_line(found.title or found.name or found.conversation_id)
        members = output.counted(found.members, "member")
        click.echo(f"{title}: a {found.kind} of {members}; it makes a {found.role} of you")


@invitations.command()
@click.argument("invitation", metavar="TOKEN")
@as_json
@with_client
def accept(client: Client, invitation: str, as_json: bool) -> None:
    """Join by the invitation TOKEN."""
    joined = client.accept(invitation)
    if as_json:
        output.json_line(joined)
    else:
        title = output.one_line(joined.name or joined.title or joined.id)
        click.echo(f"you are {joined.my_role} in {title}")
