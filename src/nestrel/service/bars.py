"""Who is suspended or signed out, as every process knows it: read from the store when a person is first seen, and then
asked every two seconds for what has changed."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Iterable, Sequence
from datetime import datetime, timedelta
from typing import Protocol
from uuid import UUID

import structlog

from nestrel.core import limits
from nestrel.core.people import FREE, Barred
from nestrel.core.problems import Problem, StoreUnavailable, Unauthenticated
from nestrel.live.sharing import Shared
from nestrel.live.waiting import happens
from nestrel.service.tokens import Identity
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.write import barring, erased, sessions
from nestrel.store.write.barring import Met

log = structlog.get_logger()

SIGN_IN_AGAIN, BARRED = 4401, 4403
_LOOK_SECONDS = 2.0
_OVERLAP = timedelta(seconds=120)
"""A change is dated before it commits: what is older than any statement may take has been seen."""
_SETTLES = timedelta(seconds=10)
_KNOWN_USERS = 200_000
_TOGETHER = 200
_ASKED = 2_000


class Seated(Protocol):
    """A live connection, as far as this goes."""

    @property
    def identity(self) -> Identity | None:
        """Whose it is, once that is known."""

    def close(self, code: int, reason: str) -> None:
        """End it."""


class Bars:
    """The users whom this process has seen lately, with what stands against each. `seated` are the live connections:
    those of whom something new stands against are ended."""

    def __init__(self, database: Database, seated: Callable[[], Iterable[Seated]]) -> None:
        self._database = database
        self._seated = seated
        self._ask = Shared[str, Met](self._met, _TOGETHER)
        self._known: dict[str, Barred] = {}
        self._sessions: dict[bytes, bool] = {}
        self._since: datetime | None = None
        self._identities = set[tuple[UUID, bool]]()
        self._living = set[str]()
        self._look = asyncio.Event()

    def knows(self, user_id: str) -> bool:
        return user_id in self._known

    def is_free(self, identity: Identity) -> bool:
        """Whether it is known that nothing stands against somebody with a token."""
        return self._known.get(identity.user_id) is FREE and identity.session is None

    async def ask(self, user_id: str) -> Met:
        """Who somebody is that is seen here for the first time. Many who come at once share the question."""
        return await self._ask(user_id)

    def know(self, user_id: str, met: Met) -> None:
        """Keep what stands against somebody."""
        if len(self._known) >= _KNOWN_USERS:
            self._known.clear()
        self._known[user_id] = met.barred or FREE

    async def _met(self, user_ids: Sequence[str]) -> Sequence[Met]:
        async with self._database.read() as connection:
            return await barring.met(connection, user_ids)

    async def stop(self) -> None:
        await self._ask.stop()

    async def erased_among(self, user_ids: Iterable[str]) -> set[str]:
        """Those of some ids that were erased: nobody brings one back by writing for it."""
        unknown = [user_id for user_id in set(user_ids) if user_id not in self._living]
        if not unknown:
            return set()
        async with self._database.read() as connection:
            gone = await erased.among(connection, unknown)
        if len(self._living) >= _KNOWN_USERS:
            self._living.clear()
        self._living.update(user_id for user_id in unknown if user_id not in gone)
        return gone

    async def check_living(self, user_id: str) -> None:
        """Raises `InvalidRequest` where somebody writes for an identity that was erased."""
        if await self.erased_among([user_id]):
            raise erased.already("/on_behalf_of")

    async def check_session(self, id_: bytes) -> None:
        """Raises `Unauthenticated` for a browser's session that was ended."""
        ended = self._sessions.get(id_)
        if ended is None:
            async with self._database.read() as connection:
                ended = await sessions.ended(connection, id_)
            if len(self._sessions) >= _KNOWN_USERS:
                self._sessions.clear()
            self._sessions[id_] = ended
        if ended:
            raise _over()

    def end_session(self, id_: bytes) -> None:
        """A session was ended here."""
        self._sessions[id_] = True

    def forget(self) -> None:
        """The database has another history."""
        self._known.clear()
        self._sessions.clear()
        self._living.clear()

    def refusal(self, identity: Identity) -> Problem | None:
        """Why somebody is not let in; None if they are."""
        if identity.session is not None and self._sessions.get(identity.session):
            return _over()
        barred = self._known.get(identity.user_id, FREE)
        return None if barred is FREE else barred.refusal(identity.issued_at, time.time())

    async def ended(self, user_id: str, made_at: float) -> bool:
        """Whether what somebody made then, and somebody else uses, is over: they are suspended, or signed out since."""
        if user_id not in self._known:
            self.know(user_id, await self.ask(user_id))
        return self._known[user_id].refusal(made_at, time.time()) is not None

    def check(self, identity: Identity) -> None:
        """Raises `Forbidden` for whom is suspended, `Unauthenticated` for a token that was ended."""
        refusal = self.refusal(identity)
        if refusal is not None:
            raise refusal

    async def look_now(self) -> None:
        """Something has been changed here: this process knows of it before the answer does."""
        try:
            await self._learn()
        except StoreUnavailable:
            self._look.set()

    async def run(self) -> None:
        """Learn of changes, and end the connections of whom they concern, until cancelled."""
        while True:
            try:
                await self._learn()
            except StoreUnavailable:
                pass  # nothing changes while the store is away, and what did before is asked for again
            except Exception as error:  # whatever it is, others who are suspended must not stay
                log.error("bars.failed", exc_info=error)
            await happens(self._look, _LOOK_SECONDS)
            self._look.clear()

    async def _learn(self) -> None:
        async with self._database.read() as connection:
            now = await barring.now(connection)
            since = self._since if self._since is not None else now - _OVERLAP
            changed = await barring.changed(connection, since, limits.BARRED_CHANGES)
            ended = await sessions.since(connection, since)
            identities = await erased.changed(connection, since)
            # Too many to tell one from another, or of whom it is not told who they are: everybody is asked again.
            # For a while again and again: a question that was under way may have been answered as it was before.
            anew = identities.keys() - self._identities or any(at > now - _SETTLES for at in identities.values())
            if len(changed) >= limits.BARRED_CHANGES or anew:
                changed |= await self._stands_against(connection, sorted(self._present()))
                self._known.clear()
                self._living.clear()
        self._since, self._identities = now - _OVERLAP, set(identities)
        for user_id, barred in changed.items():
            if user_id in self._known:
                self._known[user_id] = barred
        self._sessions |= {id_: True for id_ in ended if id_ in self._sessions}
        if changed or ended:
            self._end(changed, ended)

    async def _stands_against(self, connection: Connection, user_ids: Sequence[str]) -> dict[str, Barred]:
        found = dict[str, Barred]()
        for low in range(0, len(user_ids), _ASKED):
            some = user_ids[low : low + _ASKED]
            for user_id, met in zip(some, await barring.met(connection, some), strict=True):
                if met.barred is not None:
                    found[user_id] = met.barred
        return found

    def _present(self) -> set[str]:
        return {one.identity.user_id for one in self._seated() if one.identity is not None}

    def _end(self, changed: dict[str, Barred], ended: set[bytes]) -> None:
        now = time.time()
        for one in tuple(self._seated()):
            identity = one.identity
            if identity is None:
                continue
            refusal = changed.get(identity.user_id, FREE).refusal(identity.issued_at, now)
            if identity.session is not None and identity.session in ended:
                refusal = _over()
            if refusal is not None:
                code = SIGN_IN_AGAIN if isinstance(refusal, Unauthenticated) else BARRED
                one.close(code, refusal.detail[:100])


def _over() -> Unauthenticated:
    return Unauthenticated("the session was ended; make a new one")
