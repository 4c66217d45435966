"""Which rows of many conversations are read at one time for a client that was away: a pure plan over counters."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from nestrel.core import limits
from nestrel.core.cursors import ChangePosition


@dataclass(frozen=True, slots=True)
class Counters:
    """Where a conversation stands. `members` are as many as a change set would name: none of a crowd."""

    rev: int
    head: int
    floor: int
    members: int


def most_rows(start: ChangePosition | None, now: Counters) -> int:
    """No change set from a position up to now has more rows: each of them has moved `rev` by one at least. Without a
    position it is the newest page, with the members."""
    if start is None:
        return min(limits.PAGE_DEFAULT, max(0, now.head - now.floor + 1)) + now.members
    return max(0, now.rev - min(start.rev, start.member_rev))


def only_posts(start: ChangePosition | None, now: Counters) -> bool:
    """Whether nothing has come since a position but new messages, so that nothing else needs to be looked for: as many
    as there are, each with a `rev` of its own, account for all that `rev` has moved by."""
    return start is not None and start.complete and now.rev - start.rev <= max(0, now.head - start.seq)


def new_messages(start: ChangePosition, now: Counters) -> int:
    """How many messages that are still kept have come since."""
    return max(0, now.head - max(start.seq, now.floor - 1))


ALONE = 400
"""What may have more rows than this fills a change set alone: to read more of it than that would be in vain."""


def taken(needs: Sequence[int], rows: int) -> int:
    """How many of the first are read in one question, which need so many rows each at most: as many as go into `rows`.
    One that needs more than that, or is large, is read alone, in parts."""
    count = 0
    for need in needs:
        if count and need > min(rows, ALONE):
            break
        rows -= max(need, 1)
        count += 1
        if rows <= 0 or need > ALONE:
            break
    return count


def looks(count: int, first: int = 8, factor: int = 8) -> Iterator[tuple[int, int]]:
    """The parts of a list of `count` in which one looks where each stood: a few, then more and more of them, so that
    an answer that is full soon has looked at few in vain, and a long list takes few questions."""
    low = 0
    while low < count:
        high = min(count, low + first)
        yield low, high
        low, first = high, first * factor
