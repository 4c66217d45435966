"""Markdown on a terminal, as docs/markdown.md says what it means: the same as in the console."""

from __future__ import annotations

import re
from typing import Any

from markdown_it import MarkdownIt
from markdown_it.token import Token
from rich.console import Group, RenderableType
from rich.markdown import Markdown
from rich.table import Table
from rich.text import Text

from nestrel.core.markdown import is_costly

_FOLLOWED = re.compile(r"https?://|mailto:", re.IGNORECASE)
"""What a link may lead to; the words of another stand alone."""


def parser() -> MarkdownIt:
    """CommonMark with tables and strike-through, and no HTML: what looks like some is text."""
    made = MarkdownIt("commonmark", {"html": False}).enable(["table", "strikethrough"])
    made.validateLink = _any_address  # type: ignore[method-assign]  # the library's way to set it
    return made


def _any_address(url: str) -> bool:
    """What may be followed is decided later: its words are not lost."""
    return url is not None


def parsed(body: str) -> list[Token]:
    """The tokens of a body; a picture is a link to it, and what leads to nothing to follow is its words alone."""
    tokens = parser().parse(body)
    for token in tokens:
        if token.children:
            token.children = _links(token.children)
    return tokens


def _links(children: list[Token]) -> list[Token]:
    out = []
    following = True
    for token in children:
        if token.type == "image":
            out += _picture(token)
        elif token.type == "link_open":
            following = bool(_FOLLOWED.match(str(token.attrs.get("href", ""))))
            out += [token] if following else []
        elif token.type != "link_close" or following:
            out.append(token)
    return out


def _picture(token: Token) -> list[Token]:
    address = str(token.attrs.get("src", ""))
    words = Token("text", "", 0, content=token.content or address)
    if not _FOLLOWED.match(address):
        return [words]
    return [Token("link_open", "a", 1, attrs={"href": address}), words, Token("link_close", "a", -1)]


def beside(prefix: Text, body: str, notes: Text) -> RenderableType:
    """A body to the right of what stands before it, wrapped within its own column. One that is too costly to draw is
    shown as it was written."""
    # Addresses are shown and not hidden behind words: what one is about to follow is to be seen.
    parts: list[Any] = [Text(body)]
    if not is_costly(body):
        shown = Markdown("", hyperlinks=False)
        shown.parsed = parsed(body)
        parts = [shown]
    if notes:
        parts.append(notes)
    table = Table.grid(padding=0)
    table.add_column(no_wrap=True)
    table.add_column(overflow="fold")
    table.add_row(prefix, Group(*parts))
    return table
