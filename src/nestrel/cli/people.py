"""People: who can be found, and what one of them has said."""

from __future__ import annotations

from itertools import islice
from typing import TYPE_CHECKING

import click

from nestrel.cli import output
from nestrel.cli.options import as_json, with_client

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client


@click.command()
@click.argument("words", required=False, default="")
@click.option("--limit", type=click.IntRange(1), default=50, show_default=True, help="At most this many.")
@click.option("--everyone", is_flag=True, help="Of the whole service; for a trusted backend.")
@as_json
@with_client
def people(client: Client, words: str, limit: int, everyone: bool, as_json: bool) -> None:
    """List the people whom you can see.

    With WORDS those whose name or id has words that begin so.
    """
    found = list(islice(client.people(words, everyone=everyone), limit))
    if as_json:
        for person in found:
            output.json_line(person)
    elif found:
        output.people_table(found)
    else:
        output.console().print(
            "nobody whom you can see is called so" if words else "nobody shares a conversation with you"
        )


@click.command("put-person")
@click.argument("user")
@click.option("--name", help="What they are called; by default their id.")
@click.option("--picture", help="The address of their picture.")
@as_json
@with_client
def put_person(client: Client, user: str, name: str | None, picture: str | None, as_json: bool) -> None:
    """Make the profile of USER, or change it; for a trusted backend.

    USER need not have signed in yet. What is not given stays as it is.
    """
    person = client.put_person(user, display_name=name, picture=picture)
    if as_json:
        output.json_line(person)
    else:
        output.people_table([person])


@click.command()
@click.argument("user")
@click.option(
    "-n", "--count", "--limit", type=click.IntRange(1, 200), default=20, show_default=True, help="How many messages."
)
@as_json
@with_client
def said(client: Client, user: str, count: int, as_json: bool) -> None:
    """Show the newest messages of USER in all of your conversations.

    USER is a user id; the oldest is at the top.
    """
    page = client.said_page(user, limit=count)
    for message in reversed(page.items):
        if as_json:
            output.json_line(message)
        else:
            where = output.called(page.conversations.get(message.conversation_id), message.conversation_id)
            output.message_line(message, page.profiles, where)
