"""What happens to messages after they are posted: edit, remove, like, unlike, read, and who did."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from nestrel.cli import output
from nestrel.cli.options import CONVERSATION, as_json, with_client
from nestrel.core.symbols import LIKE

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, Message

_SEQ = click.IntRange(1)


def _of_message(command: Callable[..., Any]) -> Callable[..., Any]:
    """The arguments of a command on one message."""
    return click.argument("conversation", type=CONVERSATION)(
        click.argument("seq", type=_SEQ)(as_json(with_client(command)))
    )


def _say(message: Message, words: str, as_json: bool) -> None:
    if as_json:
        output.json_line(message)
    else:
        click.echo(words)


@click.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("seq", type=_SEQ)
@click.argument("body", required=False)
@click.option("--markdown", is_flag=True, help="The new body is Markdown.")
@click.option("--rev", type=click.IntRange(1), help="Only if the message still stands at this rev.")
@as_json
@with_client
def edit(
    client: Client, conversation: str, seq: int, body: str | None, markdown: bool, rev: int | None, as_json: bool
) -> None:
    """Give your message SEQ a new BODY; without BODY, standard input is the body. The earlier one is kept."""
    if body is None:
        body = sys.stdin.read().rstrip("\n")
    found = client.find(conversation)
    message = client.edit(found.id, seq, body, format="markdown" if markdown else None, rev=rev)
    times = f"{message.edits} time{'s' if message.edits != 1 else ''}"
    _say(message, f"message {seq} stands at rev {message.rev}, edited {times}", as_json)


@click.command()
@_of_message
def remove(client: Client, conversation: str, seq: int, as_json: bool) -> None:
    """Take message SEQ away for good; a tombstone stays in its place."""
    message = client.remove(client.find(conversation).id, seq)
    _say(message, f"message {seq} is removed", as_json)


_symbol = click.option("--symbol", default=LIKE, show_default=True, help="like, or one emoji.")


@click.command()
@_symbol
@_of_message
def like(client: Client, conversation: str, seq: int, symbol: str, as_json: bool) -> None:
    """Set your reaction on message SEQ."""
    message = client.react(client.find(conversation).id, seq, symbol)
    _say(message, f"message {seq}: {output.reactions(message) or 'no reactions'}", as_json)


@click.command()
@_symbol
@_of_message
def unlike(client: Client, conversation: str, seq: int, symbol: str, as_json: bool) -> None:
    """Take your reaction on message SEQ back."""
    message = client.unreact(client.find(conversation).id, seq, symbol)
    _say(message, f"message {seq}: {output.reactions(message) or 'no reactions'}", as_json)


@click.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("seq", type=click.IntRange(0), required=False)
@as_json
@with_client
def read(client: Client, conversation: str, seq: int | None, as_json: bool) -> None:
    """Say that you have read CONVERSATION up to SEQ; without SEQ, all of it. A receipt only grows."""
    found = client.find(conversation)
    receipt = client.read(found.id, found.head if seq is None else seq)
    if as_json:
        output.json_line(receipt)
    else:
        click.echo(f"read up to {receipt.read_seq}, {receipt.unread} unread")


@click.command()
@_of_message
def readers(client: Client, conversation: str, seq: int, as_json: bool) -> None:
    """Show which members have read message SEQ, how far each has read, and when."""
    found = client.find(conversation)
    who = list(client.readers(found.id, seq))
    if as_json:
        for reader in who:
            output.json_line(reader)
        return
    names = {member.user_id for member in client.members(found.id)}
    output.readers_table(who)
    click.echo(f"{len(who)} of {len(names)} members have read message {seq}")


@click.command()
@_of_message
def edits(client: Client, conversation: str, seq: int, as_json: bool) -> None:
    """Show the earlier bodies of message SEQ, oldest first, and the present one."""
    found = client.find(conversation)
    earlier = list(client.edits(found.id, seq))
    message = client.message(found.id, seq)
    if as_json:
        for body in earlier:
            output.json_line(body)
        return
    for body in earlier:
        output.body_line(str(body.n), body.created_at, body.body)
    output.body_line("now", message.edited_at or message.created_at, message.body, removed=bool(message.removed_at))
