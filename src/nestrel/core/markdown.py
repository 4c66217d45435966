"""What Markdown may cost whoever shows it. Parsers take time that grows with the square of what is nested, left open or
filled up, and most recurse: one message could stop every client that is shown it."""

from __future__ import annotations

import re

from nestrel.core import limits

_CONTAINERS = re.compile(r"(?:[ \t]*(?:>|[-+*](?=[ \t]|$)|[0-9]{1,9}[.)](?=[ \t]|$)))*")
_CONTAINER = re.compile(r">|[-+*]|[0-9]+[.)]")
_INLINE = re.compile(r"\*+|_+|~+|`+|[\[\]<]")
_DIVIDER = frozenset("|-: \t")
_TAB = 4


def depth_of(containers: str) -> int:
    """How deep a line is at most within lists and quotations, by what it begins with: each of them is a mark of its own
    line, or two columns under that of an earlier one."""
    marks = len(_CONTAINER.findall(containers))
    if not marks:
        return 0
    indented = containers[: len(containers) - len(containers.lstrip(" \t"))]
    return marks + len(indented.expandtabs(_TAB)) // 2


def weigh(body: str) -> tuple[int, int]:
    """How deep a body is nested at most, and what its lines, marks and cells of tables are in sum. A pure function of
    the text, in one pass; the console has the same (`console/src/lib/costly.ts`, docs/vectors/markdown.json)."""
    deepest, weight, columns, before = 0, 0, 0, ""
    for line in re.split(r"\r\n|\r|\n", body):
        containers = _CONTAINERS.match(line)
        assert containers is not None
        begin, rest = containers[0], line[containers.end() :]
        deepest = max(deepest, depth_of(begin))
        weight += len(_CONTAINER.findall(begin)) + len(_INLINE.findall(rest))
        if not rest.strip(" \t"):
            columns, before = 0, ""
            continue
        weight += 1
        if columns:
            weight += columns  # each row of a table is filled up to its columns
        elif "-" in rest and "|" in before + rest and _DIVIDER.issuperset(rest):
            columns = rest.count("|") + 1
            weight += 2 * columns
        before = rest
    return deepest, weight


def check_markdown(body: str) -> str:
    """A body of format `markdown`. Raises `ValueError` for one that nobody could show in good time."""
    deepest, weight = weigh(body)
    if deepest > limits.MARKDOWN_DEPTH:
        raise ValueError(
            f"nests lists and quotations {deepest} deep; at most {limits.MARKDOWN_DEPTH} are allowed in Markdown. "
            "Send it as plain text."
        )
    if weight > limits.MARKDOWN_WEIGHT:
        raise ValueError(
            f"has {weight:,} lines, marks and cells of tables; at most {limits.MARKDOWN_WEIGHT:,} are allowed in "
            "Markdown. Send it as several messages, or as plain text."
        )
    return body


def is_costly(body: str) -> bool:
    """Whether a body is shown as the text that it is: it was kept before there was a limit, or came by an import."""
    deepest, weight = weigh(body)
    return deepest > limits.MARKDOWN_DEPTH or weight > limits.MARKDOWN_WEIGHT
