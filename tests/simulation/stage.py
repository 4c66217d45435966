"""What a service process is to those who are connected to it, where nothing stands behind it: the real hub, moves and
bounds, and everybody may do everything."""

from __future__ import annotations

import asyncio
from typing import Any

from nestrel.core.cursors import CursorSeal
from nestrel.live.bus import Attention
from nestrel.live.checkpoints import Checkpoints
from nestrel.live.hub import Hub
from nestrel.live.looking import Lookings
from nestrel.live.moves import Moves
from nestrel.live.returns import Returns
from nestrel.service.outgoing import Outgoing
from nestrel.service.seats import Seats
from nestrel.service.socket import Session
from nestrel.service.tokens import Identity

SEAL = CursorSeal(b"one key for every node")


class Stage:
    """The part of `Service` that a `Session` uses."""

    def __init__(self, source: Any, attention: Attention | None = None, *, seconds: float) -> None:
        self.draining = False
        self.sessions: set[Session] = set()
        self.seal = SEAL
        self.source = source
        self.hub = Hub(source, attention)
        self.moves = Moves(source)
        self.checkpoints = Checkpoints(self.hub, self.moves, seconds)
        self.returns = Returns(source, self.moves, self.checkpoints)
        self.seats = Seats(0)
        self.coming = asyncio.Semaphore(8)
        self.outgoing = Outgoing(32 * 1024 * 1024)
        self.lookings = Lookings(None)  # type: ignore[arg-type]  # nobody says here what they look at
        self.tasks: set[asyncio.Task[Any]] = set()

    def spawn(self, work: Any) -> asyncio.Task[Any]:
        """Do something in the background, until it ends or the process does."""
        task: asyncio.Task[Any] = asyncio.ensure_future(work)
        self.tasks.add(task)
        task.add_done_callback(self.tasks.discard)
        return task

    def sealing(self) -> CursorSeal:
        return SEAL

    def left(self, session: Session) -> None:
        self.sessions.discard(session)

    async def count_command(self, _caller: object) -> None:
        pass

    async def count_read(self, _caller: object) -> None:
        pass

    async def count_posts(self, _caller: object, _posts: object) -> None:
        pass

    async def check_seats(self, _identity: object) -> None:
        pass

    def delivered(self, _conversation_id: object, _user_id: object) -> None:
        pass

    async def sign_in(self, token: str) -> Identity:
        return Identity(token, token, None, service=False, expires_at=4_000_000_000.0)

    async def die(self) -> None:
        """End at once, with all that it was doing."""
        for task in tuple(self.tasks):
            task.cancel()
        await asyncio.gather(*self.tasks, return_exceptions=True)
        await self.returns.stop()
        await self.moves.stop()
        await self.hub.stop()
