"""Post, read and follow messages."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Sequence
from datetime import datetime
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import nestrel.client
from nestrel.cli import output
from nestrel.cli.attachments import send
from nestrel.cli.options import CONVERSATION, as_json, with_client
from nestrel.core.roles import Kind
from nestrel.core.times import parse_time

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import ChangeSet, Client


_ENDS = {
    "left": "you have left it",
    "removed": "you are not a member any more",
    "closed": "it has been closed for good",
}


class Time(click.ParamType[datetime]):
    """A time as RFC 3339 has it."""

    name = "time"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> datetime:
        try:
            return value if isinstance(value, datetime) else parse_time(value)
        except ValueError as error:
            self.fail(f"{value!r} {error}", param, ctx)


@click.command()
@click.argument("conversation", type=CONVERSATION)
@click.argument("body", required=False)
@click.option("--key", help="Idempotency key; the same key posts once however often it is sent.")
@click.option("--markdown", is_flag=True, help="The body is Markdown.")
@click.option("--reply-to", type=click.IntRange(1), metavar="SEQ", help="The message that this one answers.")
@click.option("--mention", "mentions", multiple=True, metavar="USER", help="A member to name; can be given again.")
@click.option("--attach", "files", multiple=True, metavar="FILE", type=click.Path(exists=True, dir_okay=False,
              path_type=Path), help="A file to send with it; can be given again.")  # fmt: skip
@click.option("--on-behalf-of", metavar="USER", help="Another author; for a trusted backend.")
@as_json
@with_client
def post(
    client: Client,
    conversation: str,
    body: str | None,
    markdown: bool,
    files: Sequence[Path],
    as_json: bool,
    **options: Any,
) -> None:
    """Post BODY into CONVERSATION (an id or a name); without BODY, standard input is the body, unless there are files
    to attach."""
    if body is None:
        body = "" if files else sys.stdin.read().rstrip("\n")
    found = client.find(conversation)
    sent = [send(client, found.id, file, options["on_behalf_of"]) for file in files]
    message = client.post(found.id, body, format="markdown" if markdown else "plain", attachments=sent, **options)
    if as_json:
        output.json_line(message)
    else:
        click.echo(f"posted as {message.seq} in {output.one_line(found.name or found.id)}")


@click.command()
@click.argument("conversation", type=CONVERSATION)
@click.option(
    "-n", "--count", "--limit", type=click.IntRange(1), default=20, show_default=True, help="How many messages."
)
@click.option("--all", "everything", is_flag=True, help="All of them, however many.")
@click.option("--oldest-first", is_flag=True, help="Begin at the oldest; else the newest are shown, in order.")
@click.option("--before", type=click.IntRange(0), metavar="SEQ", help="Only what lies before this number.")
@click.option("--after", type=click.IntRange(0), metavar="SEQ", help="Only what follows this number.")
@click.option("--from", "since", type=Time(), help="Only from this time on (RFC 3339).")
@click.option("--to", "until", type=Time(), help="Only before this time (RFC 3339).")
@click.option("--author", metavar="USER", help="Only messages of this user.")
@as_json
@with_client
def history(
    client: Client,
    conversation: str,
    count: int,
    everything: bool,
    oldest_first: bool,
    before: int | None,
    after: int | None,
    as_json: bool,
    **query: Any,
) -> None:
    """Show messages of CONVERSATION (an id or a name), oldest at the top."""
    if before is not None and after is not None:
        raise click.UsageError("give --before or --after, not both")
    found = client.find(conversation)
    query |= {"before": before, "after": after}
    rising = oldest_first or everything or after is not None
    messages = client.history(
        found.id, order="asc" if rising else "desc", page_size=200 if everything else min(count, 200), **query
    )
    wanted = messages if everything else islice(messages, count)
    profiles = _Names(client, found.id)
    for message in wanted if rising else reversed(list(wanted)):
        if as_json:
            output.json_line(message)
        else:
            output.message_line(message, profiles.known([message.author_id, *message.mentions], message.seq))


class _Names:
    """The profiles of authors and of those whom they name, asked for once each, with the message that first shows
    one."""

    def __init__(self, client: Client, conversation_id: str) -> None:
        self._client = client
        self._conversation_id = conversation_id
        self._profiles: dict[str, Any] = {}

    def known(self, user_ids: Iterable[str], seq: int) -> dict[str, Any]:
        if any(user_id not in self._profiles for user_id in user_ids):
            page = self._client.history_page(self._conversation_id, around=seq, limit=50)
            self._profiles |= page.profiles
        return self._profiles


@click.command()
@click.argument("conversation", type=CONVERSATION, required=False)
@click.option("--all", "mine", is_flag=True, help="All of your conversations, those that you join later too.")
@click.option("--everything", is_flag=True, help="Every conversation of the store; for a trusted backend.")
@click.option("--kind", type=click.Choice([kind.value for kind in Kind]), help="With --everything: those of a kind.")
@click.option("--cursor", help="Resume from this cursor instead of from now on: a change cursor, or with --all the one "
              "that a resync gives.")  # fmt: skip
@click.option("-n", "--count", "--limit", type=click.IntRange(1), help="End after this many messages.")
@as_json
@with_client
def follow(
    client: Client,
    conversation: str | None,
    mine: bool,
    everything: bool,
    kind: str | None,
    cursor: str | None,
    count: int | None,
    as_json: bool,
) -> None:
    """Show what happens in CONVERSATION as it happens, until interrupted.

    CONVERSATION is an id or a name; --all stands for all of yours, --everything for every one of the store. Reconnects
    by itself. With --json each line is a change set, whose `cursor` resumes right behind it in its conversation.
    """
    if [mine, everything, conversation is not None].count(True) != 1:
        raise click.UsageError("name a CONVERSATION, or say --all or --everything.")
    if kind is not None and not everything:
        raise click.UsageError("--kind goes with --everything.")
    if conversation is None:
        titles = Titles(client)
        if not as_json:
            whose = "all of your conversations" if mine else " ".join(filter(None, ("every", kind, "conversation")))
            click.echo(f"following {whose}; end with Ctrl+C", err=True)
        events: Any = client.follow_all(cursor) if mine else client.follow_everything(kind, cursor)
    else:
        found = client.find(conversation)
        titles = None
        if not as_json:
            click.echo(f"following {output.one_line(found.name or found.id)}; end with Ctrl+C", err=True)
        events = client.follow(found.id, cursor)
    seen = 0
    for event in events:
        if isinstance(event, nestrel.client.Unfollowed):
            if titles is None:
                click.echo(_ENDS[event.reason], err=True)
                raise SystemExit(1)
            click.echo(f"{titles.of(event.conversation_id)}: {_ENDS[event.reason]}", err=True)
            continue
        if as_json:
            output.json_line(event)
        else:
            if titles is not None:
                titles.head(event)
            output.change_lines(event)
        seen += len(event.messages)
        if count is not None and seen >= count:
            return


class Titles:
    """What conversations are called, and which one the last lines were of."""

    def __init__(self, client: Client) -> None:
        self._client = client
        self._known: dict[str, str] = {}
        self._last = ""

    def of(self, conversation_id: str) -> str:
        if conversation_id not in self._known:
            try:
                found = self._client.conversation(conversation_id)
                self._known[conversation_id] = output.one_line(found.title or found.name or found.id)
            except nestrel.client.NotFound:
                self._known[conversation_id] = conversation_id
        return self._known[conversation_id]

    def head(self, changes: ChangeSet) -> None:
        """Say of which conversation the lines below are, where that is another one."""
        if changes.conversation is not None:
            one = changes.conversation
            self._known[one.id] = output.one_line(one.title or one.name or one.id)
        if changes.conversation_id != self._last:
            self._last = changes.conversation_id
            output.console().print(f"— {self.of(changes.conversation_id)}", markup=False, style="bold")
