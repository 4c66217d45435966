"""Counts by day as bars, for a terminal."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import date, timedelta
from typing import TYPE_CHECKING

from nestrel.cli import output

if TYPE_CHECKING:  # the library is imported by the commands that ask a service
    from nestrel.client import RetentionPreview
    from nestrel.core.kept_objects import (
        Day,
    )

_ROWS = 31
_WIDTH = 40
_PARTS = " ▏▎▍▌▋▊▉█"


def bar(value: int, most: int, width: int = _WIDTH) -> str:
    """A bar in eighths of a column; what is more than nothing shows."""
    eighths = max(round(value / most * width * 8), 1) if value and most else 0
    return "█" * (eighths // 8) + (_PARTS[eighths % 8] if eighths % 8 else "")


def grouped(days: Sequence[Day]) -> list[tuple[str, int]]:
    """The days, or where they are too many for a screen the weeks or months that they are in."""
    if not days:
        return []
    counts: Counter[date] = Counter()
    span = (days[-1].day - days[0].day).days + 1
    form = "%Y-%m-%d"
    for one in days:
        start = one.day
        if span > _ROWS * 7:
            start, form = start.replace(day=1), "%Y-%m"
        elif span > _ROWS:
            start, form = start - timedelta(days=start.weekday()), "week of %Y-%m-%d"
        counts[start] += one.messages
    return [(start.strftime(form), counts[start]) for start in sorted(counts)]


def preview(found: RetentionPreview) -> None:
    """What a rule would take away: how much, from when to when, and a bar for each day."""
    from rich.text import Text

    out = output.console()
    if not found.expires:
        out.print("this rule takes nothing away now")
        return
    assert found.first_at is not None
    assert found.last_at is not None
    seqs = f", {found.first_seq:,} to {found.last_seq:,}" if found.first_seq is not None else ""
    out.print(
        Text.assemble(
            (output.counted(found.expires, "message"), "bold yellow"), f" would go{seqs}, {found.bytes:,} bytes"
        )
    )
    first, last = (moment.strftime("%Y-%m-%d %H:%M:%S") for moment in (found.first_at, found.last_at))
    out.print(Text(f"written from {first} to {last} UTC", style="dim"))
    rows = grouped(found.by_day)
    most = max(count for _, count in rows)
    table = output.grid(headings=False)
    table.add_column(style="cyan", no_wrap=True)
    table.add_column(style="yellow", no_wrap=True)
    table.add_column(justify="right", no_wrap=True)
    for label, count in rows:
        table.add_row(label, bar(count, most), f"{count:,}")
    out.print(table)
