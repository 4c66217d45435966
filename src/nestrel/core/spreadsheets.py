"""Messages as rows of a CSV (RFC 4180): how an export writes them, and how an import reads them again."""

from __future__ import annotations

import csv
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

import orjson

COLUMNS = (
    "conversation_id", "seq", "author_id", "created_at", "format", "body", "attributes", "reply_to", "edited_at",
    "edits", "removed_at", "removed_by", "reactions", "mentions", "attachments",
)  # fmt: skip
_NESTED = ("attributes", "reactions", "mentions", "attachments")
_NUMBERS = ("seq", "reply_to", "edits")
_FORMULA = re.compile(r"'*[=+\-@\t\r\n]")
_GUARDED = re.compile(r"'+[=+\-@\t\r\n]")
NEEDED = ("author_id", "body")
"""What a line has to have that is brought in."""


def cells(message: Mapping[str, Any]) -> list[object]:
    """A message as a row in the order of `COLUMNS`: lists and objects within it are JSON, null is an empty cell."""
    # What was archived before there were mentions has none.
    nested = {name: orjson.dumps(found).decode() if (found := message.get(name)) else None for name in _NESTED}
    packed = {**message, **nested}
    return [_guarded(packed[column]) for column in COLUMNS]


def _guarded(value: object) -> object:
    """A cell that no spreadsheet takes for a formula: one that begins like one has an apostrophe in front."""
    return f"'{value}" if isinstance(value, str) and _FORMULA.match(value) else value


def read(lines: Iterable[str], columns: Sequence[str] | None = None) -> Iterator[bytes]:
    """The rows of a CSV as JSON Lines of message objects, for an import. The columns are named by the first row, or are
    `columns`. A cell that cannot be read stays text, so that its line is refused with a reason.

    Raises:
        ValueError: there are no columns `author_id` and `body`, or it is no CSV.
    """
    rows = csv.reader(lines, strict=True)
    try:
        names = list(columns) if columns is not None else [name.strip() for name in next(rows, [])]
        missing = [name for name in NEEDED if name not in names]
        if missing:
            raise ValueError(f"the CSV has no column {' and none called '.join(missing)}; its columns are "
                             f"{', '.join(names)[:200] or 'none'}")  # fmt: skip
        for row in rows:
            if row:
                yield orjson.dumps({name: _value(name, cell) for name, cell in zip(names, row, strict=False) if cell})
    except csv.Error as error:
        raise ValueError(f"row {rows.line_num:,} is no CSV (RFC 4180): {error}") from None


def _value(name: str, cell: str) -> object:
    text = cell[1:] if _GUARDED.match(cell) else cell
    if name in _NUMBERS and text.isascii() and text.isdigit():
        return int(text)
    if name in _NESTED:
        try:
            return orjson.loads(text)
        except orjson.JSONDecodeError:
            return text
    return text
