"""`python -m nestrel.service.access_page` writes `docs/access.md`: the table of rights, and which door does what."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path

from nestrel.core.rights import ANYWHERE, RIGHTS, SENSELESS_IN_DIRECT, Action, Who
from nestrel.core.roles import Kind
from nestrel.service import doors
from nestrel.service.access import Frames, Routes, actions_of

_KINDS = {Kind.GROUP: "group", Kind.BULLETIN: "bulletin", Kind.DIRECT: "direct"}


def page(routes: Routes, frames: Frames) -> str:
    """The table as a page for people (Markdown)."""
    return "\n".join([*_head(), *_table(), *_anywhere(), *_doors(routes, frames)]) + "\n"


def _head() -> Iterator[str]:
    yield "# Who may do what"
    yield ""
    yield "Made from `src/nestrel/core/rights.py` by `python -m nestrel.service.access_page`; not to be edited by hand."
    yield ""
    yield (
        "**Yes** is done, **403** says that the caller may see the conversation and not do this, **404** is what a "
        "conversation that does not exist answers. A passer-by is somebody signed in who is no member of an open "
        "conversation, a stranger one who is none of a private one. Whoever is suspended gets 403 from every call, and "
        "whose token was ended by a sign-out 401, before anything is looked up. Where one of the two of a direct "
        "conversation has blocked the other, it takes no posts and no edits from either (403). **422** is what "
        "makes no sense there, whoever asks: a direct conversation has its two members."
    )


def _table() -> Iterator[str]:
    for kind, title in _KINDS.items():
        # Nobody passes a direct conversation by, is kept out of it, or is more than a writer in it.
        never = {Who.OWNER, Who.MODERATOR, Who.READER, Who.PASSER_BY, Who.KEPT_OUT} if kind is Kind.DIRECT else set()
        columns = [who for who in Who if who not in never]
        yield ""
        yield f"## In a {title} conversation" if kind is not Kind.BULLETIN else "## In a bulletin"
        yield ""
        yield f"| action | {' | '.join(columns)} |"
        yield "|---|" + "---|" * len(columns)
        for action, right in RIGHTS.items():
            seen = RIGHTS[Action.SEE].of(kind)
            done = "422" if kind is Kind.DIRECT and action in SENSELESS_IN_DIRECT else "yes"
            cells = [done if who in right.of(kind) else "403" if who in seen else "404" for who in columns]
            yield f"| {right.about} | {' | '.join(cells)} |"


def _anywhere() -> Iterator[str]:
    yield ""
    yield "## Of no conversation in particular"
    yield ""
    yield "| action | who |"
    yield "|---|---|"
    for action, about in ANYWHERE.items():
        who = {Action.SERVE: "a backend", Action.LINK: "whoever has the link"}.get(action, "anyone signed in")
        yield f"| {about} | {who} |"


def _doors(routes: Routes, frames: Frames) -> Iterator[str]:
    yield ""
    yield "## The doors"
    yield ""
    yield "| door | action |"
    yield "|---|---|"
    doors = [
        (path, f"`{method} {path}`", actions_of(route.endpoint))
        for path, route in routes
        for method in sorted(route.methods or ())
        if method != "HEAD"
    ]
    for _, door, actions in sorted(doors, key=lambda one: one[:2]):
        yield f"| {door} | {', '.join(sorted(actions))} |"
    for name, actions in sorted(frames):
        yield f"| frame `{name}` | {', '.join(sorted(actions))} |"


def main() -> None:
    """Write the page."""
    text = page(doors.routes(), doors.frame_actions())
    Path(sys.argv[1] if len(sys.argv) > 1 else "docs/access.md").write_text(text)


if __name__ == "__main__":
    main()
