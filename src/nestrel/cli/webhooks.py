"""Webhooks: what changes, sent to an address; for a trusted backend."""

from __future__ import annotations

from datetime import UTC, datetime
from itertools import islice
from secrets import token_bytes
from typing import TYPE_CHECKING, Literal, TextIO, cast

import click

from nestrel.cli import output
from nestrel.cli.messages import Time
from nestrel.cli.options import as_json, with_client
from nestrel.core.webhooks import SECRET_BYTES, secret_text

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, Webhook


@click.group()
def webhooks() -> None:
    """Have what changes sent to an address; for a trusted backend.

    Requests are signed as the Standard Webhooks specification says, and sent until they are taken, in the order of each
    conversation. ID is what `make` and `list` print.
    """


@webhooks.command()
@click.argument("address", metavar="URL")
@click.option("--only", metavar="CONVERSATION", help="Only what changes in this one, by id or name.")
@click.option("--notices", is_flag=True, help="Not what changes, but whom a device would be told of it, and what.")
@click.option("--secret", help="whsec_ and the base64 of 24 to 64 bytes; one is made if it is left out.")
@as_json
@with_client
def make(
    client: Client, address: str, only: str | None, notices: bool, secret: str | None, as_json: bool
) -> None:  # fmt: skip
    """Send to URL all that changes from now on; print the id and the secret, which is shown here and never again."""
    conversation = client.find(only).id if only is not None else None
    made = client.make_webhook(
        address, conversation_id=conversation, type="notices" if notices else "changes", secret=secret
    )
    if as_json:
        output.json_line(made)
    else:
        click.echo(f"{made.webhook_id}\n{made.secret}")
        click.echo("keep the secret: it is how the receiver knows that a request is genuine", err=True)


@webhooks.command("list")
@as_json
@with_client
def list_(client: Client, as_json: bool) -> None:
    """List the webhooks, the oldest first, with how far behind each is."""
    found = list(client.webhooks())
    if as_json:
        for one in found:
            output.json_line(one)
        return
    if not found:
        click.echo("there are no webhooks")
        return
    table = output.grid()
    table.add_column("id", no_wrap=True)
    for name in ("to", "of", "stands"):
        table.add_column(name, overflow="fold")
    for one in found:
        of = "everything" if one.conversation_id is None else "one conversation"
        if one.type == "notices":
            of = "notices" if one.conversation_id is None else "its notices"
        table.add_row(one.webhook_id, output.one_line(one.url), of, standing(one))
    output.console().print(table, markup=False)


def standing(one: Webhook) -> str:
    """How a webhook stands, in words."""
    if one.state != "active":
        return one.state
    words = []
    if one.attempt:
        words.append(f"failed {output.counted(one.attempt, 'time')}, again {_when(one.next_at)}")
    if one.replaying is not None:
        words.append(f"replaying, {one.replaying.conversations:,} of {one.replaying.of:,} conversations")
    if one.behind >= 1:
        words.append(f"{one.behind:,.1f} s behind")
    elif one.replaying is None:
        words.append("up to date")
    return ", ".join(words)


def _when(moment: datetime | None) -> str:
    if moment is None:
        return "soon"
    seconds = (moment - datetime.now(UTC)).total_seconds()
    return f"in {seconds:.0f} s" if seconds >= 1 else "now"


@webhooks.command()
@click.argument("webhook_id", metavar="ID")
@click.option(
    "-n", "--count", "--limit", type=click.IntRange(1, 100), default=20, show_default=True, help="How many requests."
)
@as_json
@with_client
def show(client: Client, webhook_id: str, count: int, as_json: bool) -> None:
    """Show how the webhook ID stands, and what came of its last requests, newest first."""
    found = client.webhook(webhook_id)
    requests = list(islice(client.webhook_deliveries(webhook_id), count))
    if as_json:
        for one in (found, *requests):
            output.json_line(one)
        return
    click.echo(f"{output.one_line(found.url)}: {standing(found)}")
    if not requests:
        click.echo("nothing was sent yet")
        return
    table = output.grid()
    for name in ("at", "try", "answer", "ms", "error"):
        table.add_column(name, overflow="fold", justify="right" if name in ("try", "answer", "ms") else "left")
    for request in requests:
        answer = "none" if request.status is None else str(request.status)
        at = f"{request.at.astimezone():%Y-%m-%d %H:%M:%S}"
        table.add_row(at, str(request.attempt), answer, f"{request.ms:,}", output.one_line(request.error or ""))
    output.console().print(table, markup=False)


@webhooks.command()
@click.argument("webhook_id", metavar="ID")
@click.option("--to", "address", metavar="URL", help="Another address.")
@click.option("--secret", help="Another secret; the one before signs too for 24 hours. What stands on the command line "
              "is shown to every user of the machine: prefer --secret-file or --new-secret.")  # fmt: skip
@click.option("--secret-file", type=click.File("r"), help="A file that holds it; - is standard input.")
@click.option("--new-secret", is_flag=True, help="Have one made, and print it.")
@click.option(
    "--state", type=click.Choice(["active", "paused"]), help="Let it go on, from where it stood, or pause it."
)
@as_json
@with_client
def change(
    client: Client,
    webhook_id: str,
    address: str | None,
    secret: str | None,
    secret_file: TextIO | None,
    new_secret: bool,
    state: str | None,
    as_json: bool,
) -> None:
    """Change the webhook ID: its address, its secret, or whether it is sent to."""
    if [secret is not None, secret_file is not None, new_secret].count(True) > 1:
        raise click.UsageError("give one of --secret, --secret-file and --new-secret.")
    if secret_file is not None:
        secret = secret_file.read().strip()
    elif new_secret:
        secret = secret_text(token_bytes(SECRET_BYTES))
    if address is None and secret is None and state is None:
        raise click.UsageError("say what to change: --to, --secret-file, --new-secret or --state.")
    wanted = cast(Literal["active", "paused"] | None, state)
    changed = client.change_webhook(webhook_id, url=address, secret=secret, state=wanted)
    if as_json:
        output.json_line({**changed.model_dump(), "secret": secret} if new_secret else changed)
        return
    if new_secret:
        click.echo(secret)
    click.echo(f"{output.one_line(changed.url)}: {standing(changed)}", err=new_secret)


@webhooks.command()
@click.argument("webhook_id", metavar="ID")
@click.option("--from", "since", type=Time(), metavar="TIME", help="Messages made since then (RFC 3339), as they now "
              "stand.")  # fmt: skip
@click.option("--cursor", help="What came behind this cursor, which a request of the webhook's held.")
@click.option("--everything", is_flag=True, help="All that is kept, each conversation from its beginning: for a "
              "receiver that begins, or begins anew.")  # fmt: skip
@with_client
def replay(
    client: Client, webhook_id: str, since: datetime | None, cursor: str | None, everything: bool
) -> None:  # fmt: skip
    """Send again to the webhook ID; what is new comes between, or behind --everything."""
    if [since is not None, cursor is not None, everything].count(True) != 1:
        raise click.UsageError("say one of --from, --cursor and --everything.")
    found = client.replay_webhook(webhook_id, cursor=cursor, since=since, everything=everything)
    click.echo(f"{output.one_line(found.url)}: {standing(found)}")


@webhooks.command()
@click.argument("webhook_id", metavar="ID")
@with_client
def delete(client: Client, webhook_id: str) -> None:
    """Take the webhook ID away; what it had not been sent is not sent."""
    client.delete_webhook(webhook_id)
    click.echo("taken away")
