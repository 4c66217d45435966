"""What conversations keep: show, set, preview, hold, clear; and the sweep on demand."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

import nestrel.client
from nestrel.cli import charts, output
from nestrel.cli.options import as_json, with_client
from nestrel.core.problems import ConfirmNeeded

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, RetentionRule


@click.group()
def retention() -> None:
    """What conversations keep, and what becomes of the rest.

    CONVERSATION is an id or a name; with --all it is left out, and the rule is that of the service, for all
    conversations without one of their own (for a trusted backend).
    """


def _conversation(command: Callable[..., Any]) -> Callable[..., Any]:
    """CONVERSATION or --all."""
    everywhere = click.option(
        "--all", "everywhere", is_flag=True, help="The service's rule instead of a conversation's."
    )
    return click.argument("conversation", required=False)(everywhere(command))


def _limits(command: Callable[..., Any]) -> Callable[..., Any]:
    for option in (
        click.option("--discard", "then", flag_value="discard", help="What expires is discarded."),
        click.option("--archive", "then", flag_value="archive", default="archive", show_default=True,
                     help="What expires is archived."),
        click.option("--keep-bytes", type=click.IntRange(1), metavar="N", help="The newest messages, up to N bytes."),
        click.option("--keep-for", metavar="DURATION", help="This long, as in ISO 8601: P30D, P1Y, PT12H."),
        click.option("--keep-last", type=click.IntRange(1), metavar="N", help="The newest N messages."),
    ):  # fmt: skip
        command = option(command)
    return command


_yes = click.option("--yes", is_flag=True, help="Do not ask before something is taken away.")


def _id(client: Client, conversation: str | None, everywhere: bool) -> str | None:
    if (conversation is None) is not everywhere:
        raise click.UsageError("name a CONVERSATION, or pass --all")
    return None if conversation is None else client.find(conversation).id


def _rule(keep_last: int | None, keep_for: str | None, keep_bytes: int | None, then: str) -> dict[str, Any]:
    limits = {"keep_last": keep_last, "keep_for": keep_for, "keep_bytes": keep_bytes}
    if all(value is None for value in limits.values()):
        raise click.UsageError("say what to keep: --keep-last, --keep-for, --keep-bytes, or several of them")
    return {**{name: value for name, value in limits.items() if value is not None}, "then": then}


def words(rule: RetentionRule) -> str:
    """A rule in a sentence."""
    parts = [f"the newest {rule.keep_last:,} messages"] if rule.keep_last is not None else []
    parts += [f"what is younger than {rule.keep_for}"] if rule.keep_for is not None else []
    parts += [f"{rule.keep_bytes:,} bytes"] if rule.keep_bytes is not None else []
    if not parts:
        return "keeps everything" + (", and is on hold" if rule.hold else "")
    rest = {"archive": "archives the rest", "discard": "discards the rest"}[rule.then or "archive"]
    return f"keeps {' and '.join(parts)}, and {rest}" + ("; on hold, nothing goes" if rule.hold else "")


def _say(rule: RetentionRule, as_json: bool) -> None:
    if as_json:
        output.json_line(rule)
    else:
        click.echo(words(rule) + (" (the rule of the service)" if rule.then is not None and not rule.own else ""))


@retention.command()
@_conversation
@as_json
@with_client
def show(client: Client, conversation: str | None, everywhere: bool, as_json: bool) -> None:
    """Show the rule that is in force."""
    _say(client.retention(_id(client, conversation, everywhere)), as_json)


@retention.command()
@_conversation
@_limits
@as_json
@with_client
def preview(client: Client, conversation: str | None, everywhere: bool, as_json: bool, **limits: Any) -> None:
    """Show what a rule would take away now, by day; nothing changes."""
    found = client.preview_retention(_id(client, conversation, everywhere), **_rule(**limits))
    if as_json:
        output.json_line(found)
    else:
        charts.preview(found)


@retention.command("set")
@_conversation
@_limits
@_yes
@as_json
@with_client
def set_(client: Client, conversation: str | None, everywhere: bool, yes: bool, as_json: bool, **limits: Any) -> None:
    """Set the rule. It holds at once. Where that takes messages away, they are shown first, and you are asked."""
    _put(client, _id(client, conversation, everywhere), _rule(**limits), yes, as_json)


def _put(client: Client, place: str | None, rule: dict[str, Any], yes: bool, as_json: bool) -> None:
    _confirmed(yes, as_json, lambda confirm: client.set_retention(place, confirm=confirm, **rule))
    _say(client.retention(place), as_json)


def _confirmed(yes: bool, as_json: bool, change: Callable[[bool], object]) -> None:
    """Make a change; where it takes something away, show what and ask."""
    try:
        change(yes)
    except ConfirmNeeded as needed:
        if as_json:
            raise
        charts.preview(nestrel.client.RetentionPreview.model_validate(needed.extra["preview"]))
        click.confirm("Go ahead?", abort=True)
        change(True)


@retention.command()
@click.argument("conversation")
@as_json
@with_client
def hold(client: Client, conversation: str, as_json: bool) -> None:
    """Stop the rule until the hold is lifted: nothing expires, and nothing that has expired is taken away."""
    _hold(client, conversation, on=True, yes=False, as_json=as_json)


@retention.command()
@click.argument("conversation")
@_yes
@as_json
@with_client
def lift(client: Client, conversation: str, yes: bool, as_json: bool) -> None:
    """Lift the hold. The messages that the rule then takes away are shown first, and you are asked."""
    _hold(client, conversation, on=False, yes=yes, as_json=as_json)


def _hold(client: Client, conversation: str, *, on: bool, yes: bool, as_json: bool) -> None:
    place = client.find(conversation).id
    limits = client.retention(place).model_dump(exclude_none=True, exclude={"own", "hold"})
    if not on and not set(limits) - {"then"}:
        _confirmed(yes, as_json, lambda confirm: client.clear_retention(place, confirm=confirm))
        _say(client.retention(place), as_json)
        return
    _put(client, place, {**limits, "hold": on}, yes, as_json)


@retention.command()
@_conversation
@_yes
@as_json
@with_client
def clear(client: Client, conversation: str | None, everywhere: bool, yes: bool, as_json: bool) -> None:
    """Clear the rule. A conversation then goes by the service's, if there is one."""
    place = _id(client, conversation, everywhere)
    _confirmed(yes, as_json, lambda confirm: client.clear_retention(place, confirm=confirm))
    _say(client.retention(place), as_json)


@retention.command()
@as_json
@with_client
def run(client: Client, as_json: bool) -> None:
    """Take away now what has expired, instead of with the next sweeps; for a trusted backend."""
    archived = discarded = 0
    with output.progress("taking away what has expired") as advance:
        while True:
            step = client.run_retention()
            archived, discarded = archived + step.archived, discarded + step.discarded
            advance(archived + discarded, archived + discarded + step.waiting)
            if not step.waiting or not step.archived + step.discarded:
                break
    if as_json:
        output.json_line({"archived": archived, "discarded": discarded, "waiting": step.waiting})
        return
    table = output.grid(headings=False)
    table.add_column(style="cyan")
    table.add_column(justify="right")
    for label, count in (("archived", archived), ("discarded", discarded), ("still waiting", step.waiting)):
        table.add_row(label, f"{count:,}")
    output.console().print(table)
