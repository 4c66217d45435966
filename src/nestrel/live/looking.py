"""Which conversations people look at now, as their clients say: they need no notice of those. It lasts a minute and is
sent over the bus to every process. If it is lost, a person gets a notice that they did not need."""

from __future__ import annotations

import time
from collections import OrderedDict
from collections.abc import Callable, Iterable
from uuid import UUID

from nestrel.live.saying import Saying
from nestrel.store.events import Looking, Said

SECONDS = 60.0
_MOST = 50_000
"""Connections; with more, the one that said it longest ago is forgotten."""


class Lookings:
    """By person and connection; of each the newest counts."""

    def __init__(self, saying: Saying, clock: Callable[[], float] = time.monotonic) -> None:
        self._saying = saying
        self._clock = clock
        self._at: OrderedDict[tuple[str, str], tuple[UUID, float]] = OrderedDict()
        self._of: dict[str, set[str]] = {}
        self._mine: set[tuple[str, str]] = set()

    def look(self, user_id: str, connection: str, conversation_id: UUID | None) -> None:
        """A connection of this process says what its person looks at; None for nothing, as when it ends."""
        key = (user_id, connection)
        if conversation_id is None and key not in self._mine:
            return
        said = Looking(user_id, connection, conversation_id)
        self._saying.tell(said, key)
        if conversation_id is None:
            self._mine.discard(key)
        else:
            self._mine.add(key)
        self._note(said)

    def heard(self, said: Iterable[Said]) -> None:
        """What connections of other processes say."""
        for one in said:
            if isinstance(one, Looking):
                self._note(one)

    def forget(self) -> None:
        """The bus was away: whoever has looked away meanwhile was not heard."""
        for key in [key for key in self._at if key not in self._mine]:
            self._drop(key)

    def at(self, user_id: str, conversation_id: UUID) -> bool:
        """Whether somebody looks at a conversation now."""
        over = self._clock() - SECONDS
        found = (self._at[user_id, connection] for connection in self._of.get(user_id, ()))
        return any(id_ == conversation_id and said > over for id_, said in found)

    def _note(self, one: Looking) -> None:
        key = (one.user_id, one.connection)
        self._drop(key)
        if one.conversation_id is None:
            return
        self._at[key] = one.conversation_id, self._clock()
        self._of.setdefault(one.user_id, set()).add(one.connection)
        oldest = next(iter(self._at))
        if len(self._at) > _MOST or self._at[oldest][1] < self._clock() - SECONDS:
            self._drop(oldest)

    def _drop(self, key: tuple[str, str]) -> None:
        if self._at.pop(key, None) is not None:
            connections = self._of[key[0]]
            connections.discard(key[1])
            if not connections:
                del self._of[key[0]]
