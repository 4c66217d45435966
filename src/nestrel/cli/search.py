"""Search messages."""

from __future__ import annotations

from datetime import datetime
from itertools import islice
from typing import TYPE_CHECKING

import click

from nestrel.cli import output
from nestrel.cli.messages import Time
from nestrel.cli.options import as_json, with_client

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client


@click.command()
@click.argument("words", nargs=-1, required=True)
@click.option("--in", "conversation", metavar="CONVERSATION", help="Only in this one (an id or a name).")
@click.option("--author", metavar="USER", help="Only messages of this user.")
@click.option("--from", "since", type=Time(), help="Only from this time on (RFC 3339).")
@click.option("--to", "until", type=Time(), help="Only before this time (RFC 3339).")
@click.option(
    "-n", "--count", "--limit", type=click.IntRange(1), default=20, show_default=True, help="How many hits at most."
)
@as_json
@with_client
def search(
    client: Client,
    words: tuple[str, ...],
    conversation: str | None,
    author: str | None,
    since: datetime | None,
    until: datetime | None,
    count: int,
    as_json: bool,
) -> None:
    """Show the newest messages that have all WORDS, newest first.

    A beginning is written as berth*, a phrase as '"bow visor"', and what must not be there as -- -fog.
    """
    place = client.find(conversation).id if conversation else None
    page = client.search_page(
        " ".join(words), limit=min(count, 200), conversation_id=place, author=author, since=since, until=until
    )
    left = count
    while True:
        for hit in islice(page.items, left):
            if as_json:
                output.json_line(hit)
            else:
                place_id = hit.message.conversation_id
                where = output.called(page.conversations.get(place_id), place_id)
                output.message_line(hit.message, page.profiles, where, hit.marks)
        left -= len(page.items)
        if left <= 0 or page.next is None:
            break
        page = client.search_page(limit=min(left, 200), cursor=page.next)
    if left == count and not as_json:
        output.console().print("nothing found")
