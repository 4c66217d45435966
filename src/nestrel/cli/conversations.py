"""Conversations and their members."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Literal

import click

from nestrel.cli import output
from nestrel.cli.options import CONVERSATION, as_json, with_client

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, Conversation

_ROLES = click.Choice(["owner", "moderator", "writer", "reader"])


@click.group()
def conversations() -> None:
    """Make, find and change conversations. CONVERSATION is an id or a name."""


def _show(item: Conversation, as_json: bool) -> None:
    if as_json:
        output.json_line(item)
        return
    table = output.grid(headings=False)
    table.add_column(style="dim")
    table.add_column()
    rows: dict[str, Any] = {
        "id": item.id,
        "name": item.name or "—",
        "title": item.title or "—",
        "kind": f"{item.kind}, {output.visibility(item)}",
        "my role": item.my_role or "not a member",
        "members": item.members,
        "messages": f"{item.message_count} ({item.floor}–{item.head})" if item.head else "none yet",
        "unread": "—" if item.unread is None else item.unread,
        "rev": item.rev,
    }
    for label, value in rows.items():
        table.add_row(label, output.one_line(str(value)))
    output.console().print(table)


@conversations.command("list")
@click.option("--open", "open_ones", is_flag=True, help="Those that anyone may join, instead of one's own.")
@click.option("--all", "every_one", is_flag=True, help="All of the service's; for a trusted backend.")
@click.option("--member", metavar="USER", help="With --all: only those of which this user is a member.")
@click.option("--called", "q", metavar="WORDS", help="With --all: only those whose name or title has words like these.")
@click.option("--limit", type=click.IntRange(1), default=50, show_default=True, help="At most this many.")
@as_json
@with_client
def list_(
    client: Client, open_ones: bool, every_one: bool, member: str | None, q: str | None, limit: int, as_json: bool
) -> None:
    """List one's conversations, newest activity first."""
    if open_ones and every_one:
        raise click.UsageError("give --open or --all, not both")
    if (member or q) and not every_one:
        raise click.UsageError("--member and --called go with --all")
    scope: Literal["mine", "open", "all"] = "all" if every_one else "open" if open_ones else "mine"
    page = client.conversations_page(scope, limit=min(limit, 200), member=member, q=q)
    items, profiles = list(page.items), dict(page.profiles)
    while page.next is not None and len(items) < limit:
        page = client.conversations_page(limit=min(limit - len(items), 200), cursor=page.next)
        items += page.items
        profiles |= page.profiles
    if as_json:
        for item in items:
            output.json_line(item)
    elif items:
        output.conversations_table(items, profiles)
    else:
        output.console().print("no conversations yet; make one with: nestrel conversations make NAME")


@conversations.command()
@click.argument("name", required=False)
@click.option("--title", default="", help="Free text shown for it.")
@click.option("--kind", type=click.Choice(["group", "direct", "bulletin"]), default="group", show_default=True)
@click.option("--open", "is_open", is_flag=True, help="Anyone signed in may find it and join.")
@click.option("--member", "members", multiple=True, help="A user id to add; may be repeated.")
@as_json
@with_client
def make(
    client: Client, name: str | None, title: str, kind: str, is_open: bool, members: tuple[str, ...], as_json: bool
) -> None:
    """Make a conversation and become its owner."""
    visibility = "open" if is_open else "closed"
    _show(client.make_conversation(name=name, title=title, kind=kind, visibility=visibility, members=members), as_json)


@conversations.command()
@click.argument("conversation", type=CONVERSATION)
@as_json
@with_client
def show(client: Client, conversation: str, as_json: bool) -> None:
    """Show one conversation."""
    _show(client.find(conversation), as_json)


@conversations.command()
@click.argument("conversation", type=CONVERSATION)
@click.option("--title")
@click.option("--name")
@click.option("--visibility", type=click.Choice(["open", "private"]), help="open: anyone signed in may find it.")
@click.option("--post-interval", type=click.IntRange(0, 86_400), help="Seconds in which a writer posts once; 0 for as "
              "often as they like.")  # fmt: skip
@click.option("--default/--no-default", default=None, help="Whether everyone is in it; for a bulletin, by a backend.")
@as_json
@with_client
def change(client: Client, conversation: str, as_json: bool, **fields: Any) -> None:
    """Change title, name, visibility, or how often writers post."""
    wanted = {field: value for field, value in fields.items() if value is not None}
    if wanted.get("visibility") == "private":
        wanted["visibility"] = "closed"  # the word of the wire, where it means the same
    if not wanted:
        raise click.UsageError("say what to change: --title, --name, --visibility, --post-interval or --default")
    if wanted.get("post_interval") == 0:
        wanted["post_interval"] = None
    _show(client.change_conversation(client.find(conversation).id, **wanted), as_json)


@conversations.command()
@click.argument("conversation", type=CONVERSATION)
@click.option("--yes", is_flag=True, help="Do not ask.")
@with_client
def close(client: Client, conversation: str, yes: bool) -> None:
    """Close it for good, for everyone; its content is erased."""
    found = client.find(conversation)
    if not yes:
        click.confirm(f"Close {found.name or found.id} with its {found.message_count} messages for good?", abort=True)
    client.close_conversation(found.id)


@conversations.command()
@click.argument("conversation", type=CONVERSATION)
@as_json
@with_client
def members(client: Client, conversation: str, as_json: bool) -> None:
    """List the members."""
    found = client.members(client.find(conversation).id)
    if as_json:
        for item in found:
            output.json_line(item)
        return
    table = output.grid()
    for column in ("user", "role", "joined", "has read up to"):
        table.add_column(column, justify="right" if column.startswith("has") else "left")
    for item in found:
        table.add_row(output.one_line(item.user_id), item.role, item.joined_at.strftime("%Y-%m-%d"), str(item.read_seq))
    output.console().print(table)


@conversations.command()
@click.argument("conversation", type=CONVERSATION)
@with_client
def join(client: Client, conversation: str) -> None:
    """Join an open conversation."""
    member = client.join(client.find(conversation).id)
    click.echo(f"you are a {member.role}")


@conversations.command()
@click.argument("conversation", type=CONVERSATION)
@with_client
def leave(client: Client, conversation: str) -> None:
    """Leave a conversation."""
    client.remove_member(client.find(conversation).id)


@conversations.command()
@click.argument("conversation", type=CONVERSATION)
@click.option("--again", is_flag=True, help="Show it again.")
@with_client
def hide(client: Client, conversation: str, again: bool) -> None:
    """Leave it out of your list until its next message."""
    client.hide(client.find(conversation).id, hidden=not again)


@conversations.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("user")
@click.option("--role", type=_ROLES, help="By default writer, in a bulletin reader.")
@with_client
def add(client: Client, conversation: str, user: str, role: str | None) -> None:
    """Add a member, or give one another role."""
    member = client.put_member(client.find(conversation).id, user, role)
    click.echo(f"{output.one_line(user)} is a {member.role}")


@conversations.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("user")
@with_client
def remove(client: Client, conversation: str, user: str) -> None:
    """Remove a member."""
    client.remove_member(client.find(conversation).id, user)
