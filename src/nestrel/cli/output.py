"""What commands print: tables and colour for people, JSON Lines with `--json`, progress on a terminal."""

from __future__ import annotations

import os
import re
import sys
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING, Any

import click
import orjson

from nestrel.core.times import format_time

if TYPE_CHECKING:  # what draws is imported when something is drawn
    from pydantic import BaseModel
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

    from nestrel.core.objects import Called, ChangeSet, Conversation, Message, Profile, Reader


_WIDE = 4_000
"""The columns of an output that is no terminal."""


def console(*, error: bool = False) -> Console:
    from rich.console import Console

    # What is read by a program, or kept in a file, has each row on one line, and ids whole.
    wide = None if (sys.stderr if error else sys.stdout).isatty() or "COLUMNS" in os.environ else _WIDE
    return Console(stderr=error, highlight=False, soft_wrap=True, width=wide)


def grid(*, headings: bool = True, expand: bool = False) -> Table:
    from rich.table import Table

    expand = expand and sys.stdout.isatty()
    return Table(box=None, pad_edge=False, show_header=headings, header_style="bold", expand=expand)


def _jsonable(value: Any) -> Any:
    if isinstance(value, datetime):
        return format_time(value)
    raise TypeError


def json_line(value: BaseModel | dict[str, Any]) -> None:
    """One object on one line, times as on the wire."""
    data = value if isinstance(value, dict) else value.model_dump()
    packed = orjson.dumps(data, default=_jsonable, option=orjson.OPT_PASSTHROUGH_DATETIME)
    sys.stdout.buffer.write(packed + b"\n")
    sys.stdout.buffer.flush()


def _clock(moment: datetime) -> str:
    return moment.astimezone().strftime("%Y-%m-%d %H:%M")


_MARKS = re.compile(r"([\u0300-\u036f\u0483-\u0489\u1ab0-\u1aff\u1dc0-\u1dff\u20d0-\u20ff\ufe20-\ufe2f]{8})"
                    r"([\u0300-\u036f\u0483-\u0489\u1ab0-\u1aff\u1dc0-\u1dff\u20d0-\u20ff\ufe20-\ufe2f]+)")  # fmt: skip


def one_line(text: str) -> str:
    """Text that cannot steer a terminal, or draw over its neighbours: control characters, those that turn its direction
    among them, are shown as their code points, and of marks on one letter so many as any script has."""
    text = _MARKS.sub(lambda found: f"{found[1]}(+{len(found[2]):,} marks)", text)
    return "".join(char if char.isprintable() else " " if char in "\n\t\r" else f"\\u{ord(char):04x}" for char in text)


def visible(text: str, *, ends: bool = False) -> str:
    """The same, with its line breaks; of a part of a text also one at its end."""
    shown = "\n".join(one_line(line) for line in text.splitlines())
    return shown + "\n" if ends and text.endswith("\n") else shown


def conversations_table(items: Iterable[Conversation], profiles: dict[str, Profile]) -> None:
    """A list of conversations for people."""
    from rich.markup import escape
    from rich.text import Text

    table = grid(expand=True)
    table.add_column("conversation", style="cyan", min_width=18, overflow="fold", ratio=2)
    table.add_column("kind", min_width=8)
    table.add_column("role", min_width=9)
    table.add_column("unread", justify="right", min_width=6)
    table.add_column("head", justify="right", min_width=6)
    table.add_column("last message", overflow="ellipsis", no_wrap=True, ratio=5)
    for item in items:
        last = item.last_message
        said = Text("—", style="dim")
        if last is not None:
            who = profiles[last.author_id].display_name if last.author_id in profiles else last.author_id
            said = Text.assemble((one_line(who), "bold"), "  ", "removed" if last.removed_at else one_line(_said(last)))
        unread = Text.assemble(
            (f"@{item.unread_mentions} " if item.unread_mentions else "", "bold cyan"),
            (str(item.unread or 0), "bold yellow" if item.unread else "dim"),
        )
        table.add_row(
            escape(one_line(_title(item, profiles))),
            item.kind,
            item.my_role or "—",
            unread,
            str(item.head),
            said,
        )
    console().print(table)


def _said(message: Message) -> str:
    """What a message says in a list: its body, or what it brings."""
    return message.body or ", ".join(f"▪ {one.name}" for one in message.attachments)


def _title(item: Conversation, profiles: dict[str, Profile]) -> str:
    """A direct conversation is called after the other of its two members."""
    if item.partner is not None:
        return profiles[item.partner].display_name if item.partner in profiles else item.partner
    return item.name or item.title or item.id


def called(place: Called | None, conversation_id: str) -> str:
    """What a conversation of a page is called; one that has no name, or is gone, by its id."""
    if place is None:
        return conversation_id
    return place.name or place.title or ("a direct conversation" if place.kind == "direct" else conversation_id)


def visibility(item: Conversation) -> str:
    """Who may find it. On the wire `closed` is one that is private; closed for good is another thing."""
    return "open" if item.visibility == "open" else "private"


def people_table(people: Iterable[Profile]) -> None:
    """People for people: what they are called, and their ids."""
    from rich.markup import escape

    table = grid()
    table.add_column("name", style="bold")
    table.add_column("user id", style="cyan")
    for person in people:
        table.add_row(escape(one_line(person.display_name)), escape(one_line(person.user_id)))
    console().print(table)


def message_line(
    message: Message,
    profiles: dict[str, Profile],
    where: str | None = None,
    marks: Sequence[tuple[int, int]] = (),
) -> None:
    """One message for people: number, time, author, text; and of which conversation, where there are several. `marks`
    are ranges of the text that stand out."""
    from rich.text import Text

    def name(user_id: str) -> str:
        return one_line(profiles[user_id].display_name if user_id in profiles else user_id)

    out = console()
    drawn = message.format == "markdown" and not message.removed_at and not marks and out.is_terminal
    body = _removed() if message.removed_at else Text() if drawn else _marked(message.body, marks)
    notes = [f"edited {message.edits}×"] if message.edits else []
    notes += [said] if (said := reactions(message)) else []
    reply = f"↳ {message.reply_to}  " if message.reply_to else ""
    more = Text.assemble(
        (f"  → {', '.join(map(name, message.mentions))}" if message.mentions else "", "cyan"),
        (f"  {'  '.join(notes)}" if notes else "", "yellow"),
    )
    line = Text.assemble(
        (f"{one_line(where)} " if where else "", "dim"),
        (f"{message.seq:>7}", "cyan"),
        "  ",
        (_clock(message.created_at), "dim"),
        "  ",
        (name(message.author_id), "bold"),
        "  ",
        (reply, "dim"),
        body,
    )
    if drawn:
        from nestrel.cli.prose import beside

        out.print(beside(line, visible(message.body.expandtabs(4)), more), soft_wrap=False)
    else:
        out.print(line.append_text(more))
    for attached in attachment_lines(message, 9):
        out.print(attached)


def _marked(body: str, marks: Sequence[tuple[int, int]]) -> Text:
    """Text with the ranges of code points that stand out."""
    from rich.text import Text

    text, at = Text(), 0
    for start, end in marks:
        if start >= at:
            text.append(visible(body[at:start], ends=True)).append(
                visible(body[start:end], ends=True), "black on yellow"
            )
            at = end
    return text.append(visible(body[at:], ends=True))


def reactions(message: Message) -> str:
    """The reactions on a message in a few words: `like 3, ⚓ 1`."""
    return ", ".join(f"{reaction.symbol} {reaction.count}" for reaction in message.reactions)


def _removed() -> Text:
    from rich.text import Text

    return Text("removed", style="dim italic")


def body_line(label: str, at: datetime, body: str, *, removed: bool = False) -> None:
    """One body of a message and when it was written."""
    from rich.text import Text

    text = _removed() if removed else Text(visible(body))
    console().print(Text.assemble((f"{label:>5}", "cyan"), "  ", (_clock(at), "dim"), "  ", text))


def readers_table(items: Iterable[Reader]) -> None:
    """Who has read a message."""
    from rich.markup import escape

    table = grid()
    table.add_column("member", style="cyan", overflow="fold")
    table.add_column("read up to", justify="right")
    table.add_column("when")
    for item in items:
        when = _clock(item.read_at) if item.read_at is not None else "—"
        table.add_row(escape(one_line(item.user_id)), str(item.read_seq), when)
    console().print(table)


def change_lines(changes: ChangeSet) -> None:
    """A change set for people: its messages, and a line for each member who came, changed or left."""
    from rich.text import Text

    out = console()
    if changes.conversation is not None and not changes.reset:
        out.print(Text(f"        conversation changed: {one_line(changes.conversation.title)}", style="dim"))
    for member in changes.members if not changes.reset else ():
        name = changes.profiles[member.user_id].display_name if member.user_id in changes.profiles else member.user_id
        what = "left" if member.left_at else f"is {member.role}, has read up to {member.read_seq}"
        out.print(Text(f"        {one_line(name)} {what}", style="dim"))
    for message in changes.messages:
        message_line(message, changes.profiles)


@contextmanager
def progress(label: str, total: int | None = None) -> Iterator[Any]:
    """A progress bar on stderr, where that is a terminal; yields a function that takes how far it is, and the total
    where that is known only then."""
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

    columns = (TextColumn(f"{label:<24}"), BarColumn(), MofNCompleteColumn(), TimeElapsedColumn())
    with Progress(*columns, console=console(error=True), transient=False, disable=not sys.stderr.isatty()) as bar:
        task = bar.add_task(label, total=total)
        yield lambda done, of=None: bar.update(task, completed=done, total=of if of is not None else total)


@contextmanager
def transfer(label: str) -> Iterator[Any]:
    """A bar of bytes on stderr, where that is a terminal; yields a function that takes how many have gone, and of how
    many."""
    from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TransferSpeedColumn

    columns = (TextColumn("{task.description}", markup=False), BarColumn(), DownloadColumn(), TransferSpeedColumn())
    with Progress(*columns, console=console(error=True), transient=True, disable=not sys.stderr.isatty()) as bar:
        task = bar.add_task(f"{label:<24}", total=None)
        yield lambda done, of: bar.update(task, completed=done, total=of)


def size(count: int) -> str:
    """Bytes for people, in powers of 1,000."""
    value = float(count)
    for unit in ("B", "kB", "MB"):
        if value < 1_000:
            return f"{count} B" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1_000
    return f"{value:.1f} GB"


def attachment_lines(message: Message, indent: int) -> Iterator[Text]:
    """A line for each file of a message: what it is called, what it is, and the id by which it is fetched."""
    from rich.text import Text

    for one in message.attachments:
        pixels = f", {one.width} × {one.height}" if one.width is not None else ""
        yield Text.assemble(
            " " * indent, ("▪ ", "cyan"), (one_line(one.name), "underline"),
            (f"  {one.media_type}{pixels}, {size(one.bytes)}  {one.attachment_id}", "dim"),
        )  # fmt: skip


def counted(count: int, word: str) -> str:
    """`1 answer`, `1,200 answers`."""
    return f"{count:,} {word}" if count == 1 else f"{count:,} {word}s"


def json_problem(document: dict[str, Any]) -> None:
    """A refusal on stderr, as a problem document (RFC 9457)."""
    click.echo(orjson.dumps(document, default=_jsonable).decode(), err=True)


def refuse(title: str, detail: str) -> None:
    """A refusal on stderr, in two lines."""
    click.echo(click.style(title, fg="red", bold=True), err=True)
    click.echo(detail, err=True)
