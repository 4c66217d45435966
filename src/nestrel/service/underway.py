"""HTTP requests under way, by person. A request whose body is still coming, or whose answer is long, ends when its
caller is suspended or signed out."""

from __future__ import annotations

from typing import Protocol

from nestrel.core.problems import Forbidden, Problem, Unauthenticated
from nestrel.service.bars import SIGN_IN_AGAIN
from nestrel.service.tokens import Identity


class Line(Protocol):
    """The server's side of a connection."""

    def end_request(self, problem: Problem) -> None:
        """Answer what is still being sent with a problem; cut what is being answered."""


class Underway:
    """A request of somebody who has signed in. `coming` while its body does, `answering` once its answer has begun;
    between the two it is the service's turn, which is short, and what is then written asks for itself."""

    __slots__ = ("answering", "coming", "identity", "line")

    def __init__(self, identity: Identity, line: Line | None) -> None:
        self.identity = identity
        self.line = line
        self.coming = False
        self.answering = False

    def close(self, code: int, reason: str) -> None:
        """End it, as a live connection is ended with this code."""
        if self.line is not None and (self.coming or self.answering):
            self.line.end_request(Unauthenticated(reason) if code == SIGN_IN_AGAIN else Forbidden(reason))
