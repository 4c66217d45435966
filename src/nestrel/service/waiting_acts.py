"""Carries out what applications leave in the database beside posts: conversations, members and people."""

from __future__ import annotations

import os
import time
from collections.abc import Awaitable, Callable
from typing import Any
from uuid import UUID

import asyncpg
import orjson
import structlog
from pydantic import ValidationError

from nestrel.core.callers import Caller
from nestrel.core.conversations import new_conversation
from nestrel.core.problems import NameTaken, Problem, StoreUnavailable, Trouble
from nestrel.core.quotas import Quotas
from nestrel.core.roles import Kind, Role
from nestrel.core.skeleton import Skeletons
from nestrel.core.text import pack_attributes
from nestrel.service import metrics, problems
from nestrel.service.models import MakeConversation
from nestrel.store.constraints import refusals
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.read.conversations import find_direct
from nestrel.store.write import conversations, erased, members, profiles, waiting_acts
from nestrel.store.write.waiting_acts import WaitingAct, WaitingKind
from nestrel.store.write.waiting_posts import Waiting

log = structlog.get_logger()

_FAILED_SECONDS = 60.0
"""After so long what could not be carried out is tried again."""
_TRIES = 3

PostOne = Callable[[Connection, Waiting], Awaitable[Callable[[], None] | None]]
"""Posts one message in a transaction; what is to be told once that is committed, None where its conversation is
held."""


class _Held(Exception):
    """Somebody holds what an act is about."""


class WaitingActs:
    """Carries acts out in one process, each in a transaction of its own."""

    def __init__(self, database: Database, post_one: PostOne, quotas: Quotas, skeletons: Skeletons | None) -> None:
        self._database = database
        self._post_one = post_one
        self._quotas = quotas
        self._skeletons = skeletons
        self._failed: dict[str, float] = {}

    def round(self) -> Round:
        """Begin to carry out what waits now."""
        now = time.monotonic()
        self._failed = {about: until for about, until in self._failed.items() if until > now}
        return Round(self, set(self._failed))

    async def next(self, but: set[str]) -> WaitingAct | None:
        return await waiting_acts.first(self._database, but)

    async def carry_out(self, act: WaitingAct) -> bool | None:
        """Carry an act out, or refuse it for good: True. False where somebody holds what it is about, None where
        another process is at it."""
        try:
            done = await self._try(act)
            if done is None:
                return None
            done()
            metrics.WAITING_POSTS.labels("posted" if act.act is WaitingKind.POST else "carried out").inc()
            return True
        except _Held:
            return False
        except StoreUnavailable as problem:
            if problem.reason is not Trouble.LOCKED:
                raise
            return False
        except Problem as problem:
            refusal = problem
        except ValidationError as error:
            refusal = problems.from_validation(error.errors(include_url=False), skip=0)
        except Exception as error:  # it is nobody's mistake but ours: it stays, and what is behind it, too
            log.error("waiting_acts.not_carried_out", ticket=act.ticket, exc_info=error)
            self._failed[act.about] = time.monotonic() + _FAILED_SECONDS
            return False
        await waiting_acts.refuse(self._database, act, refusal)
        metrics.WAITING_POSTS.labels("refused").inc()
        return True

    async def _try(self, act: WaitingAct) -> Callable[[], None] | None:
        """Do it in a transaction; again where what it makes was made by somebody at this very moment, for that is
        kept."""
        for left in reversed(range(_TRIES)):
            try:
                return await waiting_acts.carry_out(self._database, act, lambda connection: self._do(connection, act))
            except (asyncpg.UniqueViolationError, NameTaken):
                if not left:
                    raise
        raise AssertionError("unreachable")

    async def _do(self, connection: Connection, act: WaitingAct) -> Callable[[], None]:
        """Do it; what is to be told once that is committed."""
        backend = Caller(act.posted_as, service=True, request_id=f"ticket {act.ticket}")
        detail = orjson.loads(act.detail)
        if act.act is WaitingKind.MAKE:
            await self._make(connection, act, backend, detail)
            return _nothing
        if act.act is WaitingKind.PUT_PERSON:
            assert act.user_id is not None
            fields = {name: value for name, value in detail.items() if value is not None}
            await profiles.put_in(self._database, connection, backend, act.user_id, fields, self._skeletons)
            return _nothing
        place = await waiting_acts.place_of(connection, act)
        assert act.user_id is not None
        if act.act is WaitingKind.POST:
            await erased.check_none(connection, [act.user_id], "/author")
            told = await self._post_one(connection, _post(act, place, act.user_id, detail))
            if told is None:
                raise _Held
            return told
        if act.act is WaitingKind.PUT_MEMBER:
            role = Role(detail["role"])
            await members.put_in(
                self._database, connection, backend, place, act.user_id, role, self._quotas, own=False
            )  # fmt: skip
        else:
            await members.end_in(self._database, connection, backend, place, act.user_id, own=False)
        return _nothing

    async def _make(self, connection: Connection, act: WaitingAct, backend: Caller, detail: dict[str, Any]) -> None:
        """Make a conversation; one that is there under its name, or of the same two, is kept as it is."""
        if act.name_key is not None and await waiting_acts.called(connection, act.name_key):
            return
        wanted = MakeConversation.model_validate({**detail, "attributes": detail["attributes"] or {}})
        new = new_conversation(
            act.user_id or act.posted_as, wanted.kind, wanted.members, visibility=wanted.visibility, name=wanted.name,
            title=wanted.title, attributes=pack_attributes(wanted.attributes), rule=None, now=time.time(),
            random=os.urandom(10), service=True, owned=act.user_id is not None,
        )  # fmt: skip
        if wanted.kind is Kind.DIRECT and await find_direct(connection, new.direct_pair or ""):
            return
        with refusals(name=wanted.name):
            await conversations.make_in(self._database, connection, new, backend, self._quotas)


class Round:
    """One way through what waits. `conversations` are those of which an act waits still, so that nothing behind it is
    taken before it."""

    def __init__(self, acts: WaitingActs, held: set[str]) -> None:
        self._acts = acts
        self._held = held
        self.conversations: set[UUID] = set()

    async def next(self) -> WaitingAct | None:
        """The next act of which nothing before it waits still."""
        return await self._acts.next(self._held)

    def hold(self, act: WaitingAct) -> None:
        """Leave an act, and whatever is behind it about the same, for another round."""
        self._held.add(act.about)
        if act.conversation_id is not None:
            self.conversations.add(act.conversation_id)

    async def carry_out(self, act: WaitingAct) -> bool:
        """Carry an act out, or leave it; False where nothing more is to be done in this round."""
        done = await self._acts.carry_out(act)
        if done is None:
            return False
        if not done:
            self.hold(act)
            # Whoever is a member next may have to be known first.
            return act.act is not WaitingKind.PUT_PERSON
        return True


def _nothing() -> None:
    pass


def _post(act: WaitingAct, place: UUID, author: str, detail: dict[str, Any]) -> Waiting:
    attributes = None if detail["attributes"] is None else orjson.dumps(detail["attributes"]).decode()
    return Waiting(
        act.ticket, place, author, detail["key"], detail["body"], detail["format"], attributes, detail["mentions"],
        detail["reply_to"], act.posted_as,
    )  # fmt: skip
