"""What one is told of while one is not here, and on which devices."""

from __future__ import annotations

from datetime import datetime
from itertools import islice
from typing import TYPE_CHECKING, Literal, cast

import click

from nestrel.cli import output
from nestrel.cli.messages import Time
from nestrel.cli.options import CONVERSATION, as_json, with_client

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, Conversation

_WORDS = {"all": "everything", "mentions": "what names you", "none": "nothing"}


@click.group()
def notices() -> None:
    """Say what you are told of while you are not here, and on which devices.

    Unless you say otherwise you are told of everything in direct conversations and bulletins, and in groups of what
    names you. A browser becomes a device in the console, by Notices in a conversation.
    """


@notices.command("list")
@click.option("-n", "--count", "--limit", type=click.IntRange(1, 200), default=50, show_default=True, help="How many.")
@as_json
@with_client
def list_(client: Client, count: int, as_json: bool) -> None:
    """List your conversations, newest activity first, with what you are told of."""
    found = list(islice(client.conversations(), count))
    if as_json:
        for one in found:
            output.json_line({"conversation_id": one.id, "notify": one.my_notify, "notify_after": one.my_notify_after})
        return
    if not found:
        click.echo("you are in no conversation")
        return
    table = output.grid()
    for name in ("conversation", "kind", "you are told of", "from"):
        table.add_column(name, overflow="fold")
    for one in found:
        table.add_row(
            output.one_line(one.title or one.name or one.partner or one.id), one.kind.value,
            _WORDS[one.my_notify or "all"], _since(one),
        )  # fmt: skip
    output.console().print(table, markup=False)


def _since(one: Conversation) -> str:
    after = one.my_notify_after
    if after is None or after <= datetime.now(after.tzinfo):
        return "now"
    return f"{after.astimezone():%Y-%m-%d %H:%M}"


@notices.command("set")
@click.argument("conversation", type=CONVERSATION)
@click.argument("what", required=False, type=click.Choice(list(_WORDS)))
@click.option("--after", type=Time(), help="Nothing posted before this time (RFC 3339).")
@click.option("--now", is_flag=True, help="From now on again.")
@with_client
def set_(client: Client, conversation: str, what: str | None, after: datetime | None, now: bool) -> None:
    """Say what you are told of in a conversation: all, mentions or none; or from when on."""
    if (after is not None and now) or not (what or after or now):
        raise click.UsageError("say all, mentions or none, or one of --after and --now")
    found = client.find(conversation)
    if what is not None:
        client.notify(found.id, cast("Literal['all', 'mentions', 'none']", what))
    if after is not None or now:
        client.notify_after(found.id, after)
    stands = client.conversation(found.id)
    click.echo(f"{_WORDS[stands.my_notify or 'all']}, from {_since(stands)} on")


@notices.command()
@as_json
@with_client
def devices(client: Client, as_json: bool) -> None:
    """List your devices, the oldest first."""
    found = list(client.devices())
    if as_json:
        for one in found:
            output.json_line(one)
        return
    if not found:
        click.echo("you have no device; in the console, a browser becomes one by Notices in a conversation")
        return
    table = output.grid()
    table.add_column("id", no_wrap=True)
    for name in ("told at", "since"):
        table.add_column(name, overflow="fold")
    for one in found:
        told_at = output.one_line(one.endpoint)
        table.add_row(one.subscription_id, told_at, f"{one.created_at.astimezone():%Y-%m-%d %H:%M}")
    output.console().print(table, markup=False)


@notices.command()
@click.argument("subscription_id", metavar="ID")
@with_client
def forget(client: Client, subscription_id: str) -> None:
    """Tell the device ID nothing more."""
    client.forget_device(subscription_id)
