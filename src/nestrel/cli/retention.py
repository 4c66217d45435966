"""What conversations keep: show, set, preview, hold, clear; and the sweep on demand."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple

import click

import nestrel.client
from nestrel.cli import charts, output
from nestrel.cli.options import CONVERSATION, as_json, with_client
from nestrel.core.problems import ConfirmNeeded
from nestrel.core.roles import Kind

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import Client, RetentionRule


@click.group()
def retention() -> None:
    """What conversations keep, and what becomes of the rest.

    CONVERSATION is an id or a name. With --all it is left out, and the rule is that of the service, for all
    conversations without one of their own; with --kind, of those of a kind, before the service's (for a trusted
    backend).
    """


class _Which(NamedTuple):
    """Whose rule: a conversation's, a kind's, or the service's."""

    place: str | None
    kind: str | None = None


def _conversation(command: Callable[..., Any]) -> Callable[..., Any]:
    """CONVERSATION, --all or --kind."""
    for option in (
        click.option(
            "--kind", type=click.Choice([kind.value for kind in Kind]), help="The rule of all conversations of a kind."
        ),
        click.option("--all", "everywhere", is_flag=True, help="The service's rule instead of a conversation's."),
        click.argument("conversation", type=CONVERSATION, required=False),
    ):
        command = option(command)
    return command


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


def _which(client: Client, conversation: str | None, everywhere: bool, kind: str | None) -> _Which:
    if [conversation is not None, everywhere, kind is not None].count(True) != 1:
        raise click.UsageError("name a CONVERSATION, or pass --all or --kind")
    return _Which(None if conversation is None else client.find(conversation).id, kind)


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


_INHERITED = {"service": " (the rule of the service)", "kind": " (the rule of its kind)"}


def _say(rule: RetentionRule, as_json: bool) -> None:
    if as_json:
        output.json_line(rule)
    else:
        click.echo(words(rule) + _INHERITED.get(rule.source or "", ""))


@retention.command()
@_conversation
@as_json
@with_client
def show(client: Client, conversation: str | None, everywhere: bool, kind: str | None, as_json: bool) -> None:
    """Show the rule that is in force."""
    place, kind = _which(client, conversation, everywhere, kind)
    _say(client.retention(place, kind=kind), as_json)


@retention.command()
@_conversation
@_limits
@as_json
@with_client
def preview(
    client: Client, conversation: str | None, everywhere: bool, kind: str | None, as_json: bool, **limits: Any
) -> None:
    """Show what a rule would take away now, by day; nothing changes."""
    place, kind = _which(client, conversation, everywhere, kind)
    found = client.preview_retention(place, kind=kind, **_rule(**limits))
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
def set_(
    client: Client,
    conversation: str | None,
    everywhere: bool,
    kind: str | None,
    yes: bool,
    as_json: bool,
    **limits: Any,
) -> None:
    """Set the rule. It holds at once. Where that takes messages away, they are shown first, and you are asked."""
    _put(client, _which(client, conversation, everywhere, kind), _rule(**limits), yes, as_json)


def _put(client: Client, which: _Which, rule: dict[str, Any], yes: bool, as_json: bool) -> None:
    place, kind = which
    _confirmed(yes, as_json, lambda confirm: client.set_retention(place, kind=kind, confirm=confirm, **rule))
    _say(client.retention(place, kind=kind), as_json)


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
@click.argument("conversation", type=CONVERSATION)
@as_json
@with_client
def hold(client: Client, conversation: str, as_json: bool) -> None:
    """Stop the rule until the hold is lifted: nothing expires, and nothing that has expired is taken away."""
    _hold(client, conversation, on=True, yes=False, as_json=as_json)


@retention.command()
@click.argument("conversation", type=CONVERSATION)
@_yes
@as_json
@with_client
def lift(client: Client, conversation: str, yes: bool, as_json: bool) -> None:
    """Lift the hold. The messages that the rule then takes away are shown first, and you are asked."""
    _hold(client, conversation, on=False, yes=yes, as_json=as_json)


def _hold(client: Client, conversation: str, *, on: bool, yes: bool, as_json: bool) -> None:
    place = client.find(conversation).id
    limits = client.retention(place).model_dump(exclude_none=True, exclude={"own", "source", "hold"})
    if not on and not set(limits) - {"then"}:
        _confirmed(yes, as_json, lambda confirm: client.clear_retention(place, confirm=confirm))
        _say(client.retention(place), as_json)
        return
    _put(client, _Which(place), {**limits, "hold": on}, yes, as_json)


@retention.command()
@_conversation
@_yes
@as_json
@with_client
def clear(
    client: Client, conversation: str | None, everywhere: bool, kind: str | None, yes: bool, as_json: bool
) -> None:
    """Clear the rule. A conversation then goes by its kind's, or the service's, if there is one."""
    place, kind = _which(client, conversation, everywhere, kind)
    _confirmed(yes, as_json, lambda confirm: client.clear_retention(place, kind=kind, confirm=confirm))
    _say(client.retention(place, kind=kind), as_json)


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
