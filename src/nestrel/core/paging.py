"""What a page of history is: the query, and which ranges of `seq` answer it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from nestrel.core.cursors import HistoryPosition


@dataclass(frozen=True, slots=True)
class HistoryQuery:
    """One page of history. At most one of `before`, `after` and `around` is set; with none, the page begins at the
    end that `descending` names. `since` is inclusive, `until` exclusive; `limit` is 1 to 200."""

    limit: int
    descending: bool = True
    before: int | None = None
    after: int | None = None
    around: int | None = None
    since: datetime | None = None
    until: datetime | None = None
    author: str | None = None

    @classmethod
    def from_position(cls, at: HistoryPosition, limit: int) -> HistoryQuery:
        """The query that a page cursor stands for."""
        return cls(
            limit,
            at.descending,
            before=at.seq if at.older else None,
            after=None if at.older else at.seq,
            since=at.since,
            until=at.until,
            author=at.author,
        )

    def position(self, *, older: bool, seq: int) -> HistoryPosition:
        """Where the page next to this one starts."""
        return HistoryPosition(older, seq, self.descending, self.since, self.until, self.author)


@dataclass(frozen=True, slots=True)
class Part:
    """A range of `seq`, read from its upper end downward if `older`, else from its lower end upward."""

    low: int
    high: int
    older: bool
    limit: int


@dataclass(frozen=True, slots=True)
class Window:
    """The `seq` from `low` to `high` that a query may answer with."""

    low: int
    high: int
    query: HistoryQuery

    def parts(self) -> Iterator[Part]:
        """The ranges to read. `around` takes its message and what follows in one half, what precedes in the other."""
        query = self.query
        if query.around is not None:
            middle = min(max(query.around, self.low), max(self.high, self.low))
            following = (query.limit + 1) // 2
            yield Part(middle, self.high, False, following)
            yield Part(self.low, middle - 1, True, query.limit - following)
        elif query.before is not None:
            yield Part(self.low, min(self.high, query.before - 1), True, query.limit)
        elif query.after is not None:
            yield Part(max(self.low, query.after + 1), self.high, False, query.limit)
        else:
            yield Part(self.low, self.high, query.descending, query.limit)

    def edges(self, seqs: Sequence[int]) -> tuple[int, int]:
        """The lowest and highest `seq` that the page covers. An empty page covers the gap where it was looked for:
        its lowest is one above its highest."""
        if seqs:
            return min(seqs), max(seqs)
        query = self.query
        if query.after is not None:
            edge = min(max(query.after, self.low - 1), self.high)
        elif query.before is not None:
            edge = min(max(query.before - 1, self.low - 1), self.high)
        else:
            edge = self.high if query.descending else self.low - 1
        return edge + 1, edge


class MessagePosition(NamedTuple):
    """A message's place among those of many conversations, by time; of those of one moment by conversation and
    number."""

    at: datetime
    conversation_id: UUID
    seq: int

    def key(self) -> str:
        """What a cursor keeps of it."""
        return f"{self.at.isoformat()} {self.conversation_id.hex} {self.seq}"

    @classmethod
    def of_key(cls, key: str) -> MessagePosition:
        at, conversation_id, seq = key.split(" ")
        return cls(datetime.fromisoformat(at), UUID(conversation_id), int(seq))
