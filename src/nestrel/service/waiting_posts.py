"""Takes the posts that applications leave in the database with transactions of their own."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Collection, Sequence
from datetime import timedelta
from typing import Any
from uuid import UUID

import orjson
import structlog
from pydantic import ValidationError

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Post
from nestrel.core.problems import InternalError, Problem, StoreUnavailable, TooLarge, invalid
from nestrel.core.quotas import Quotas
from nestrel.core.skeleton import Skeletons
from nestrel.service import metrics, problems
from nestrel.service.commands import make_post
from nestrel.service.models import KeyedMessage
from nestrel.service.waiting_acts import WaitingActs
from nestrel.store.database import Database
from nestrel.store.native import Connection
from nestrel.store.write import batch, waiting_posts
from nestrel.store.write.answers import Growth, Written
from nestrel.store.write.waiting_posts import LAST, TakenPosts, Waiting

log = structlog.get_logger()

_SECONDS = 0.04
"""How often a process looks whether anything waits: nobody tells it, as no transaction of the application's shall wait
for the lock that NOTIFY takes at its commit."""
_AWAY_SECONDS = 1.0
_FAILED_SECONDS = 60.0
"""After so long a conversation whose next post could not be taken is tried again."""


class WaitingPosts:
    """Takes what waits in one process; any number of them do so in turn. `on_growth` and `on_written` are as for the
    `Writer`, `followed` says whose rows `on_growth` wants."""

    def __init__(
        self,
        database: Database,
        on_growth: Callable[[Sequence[Growth]], None],
        on_written: Callable[[Sequence[Command], list[Written]], None],
        followed: Callable[[UUID], bool],
        edit_window: timedelta | None,
        quotas: Quotas,
        skeletons: Skeletons | None,
    ) -> None:
        self._acts = WaitingActs(database, self._post_one, quotas, skeletons)
        self._database = database
        self._on_growth = on_growth
        self._on_written = on_written
        self._followed = followed
        self._edit_window = edit_window
        self._failed: dict[UUID, float] = {}

    async def run(self) -> None:
        """Take what waits, until cancelled."""
        while True:
            await asyncio.sleep(_SECONDS)
            try:
                async with self._database.read() as connection:
                    posts, acts = await waiting_posts.any_waits(connection)
                if acts:
                    await self.take_in_turn()
                elif posts:
                    await self.take_all()
            except StoreUnavailable:
                await asyncio.sleep(_AWAY_SECONDS)
            except Exception as error:
                log.error("waiting_posts.failed", exc_info=error)
                await asyncio.sleep(_AWAY_SECONDS)

    async def take_in_turn(self) -> None:
        """Take posts and other acts that wait now, in the order of their tickets."""
        acts = self._acts.round()
        while (act := await acts.next()) is not None:
            held = await self.take_all(before=act.ticket, but=acts.conversations)
            if act.conversation_id in held:
                acts.hold(act)  # what is before it in its conversation waits still
            elif not await acts.carry_out(act):
                return
        await self.take_all(but=acts.conversations)

    async def take_all(self, before: int = LAST, but: Collection[UUID] = ()) -> set[UUID]:
        """Take all posts that wait now, `before` a ticket and but for conversations `but`. A conversation that somebody
        holds, or that has failed, holds up nobody else's. Which of them wait still."""
        now = time.monotonic()
        self._failed = {id_: until for id_, until in self._failed.items() if until > now}
        held, most, more = {*self._failed, *but}, limits.GROUP_COMMANDS, True
        while more:
            try:
                taken = await waiting_posts.take(
                    self._database, command, self._followed, self._edit_window, but=held, most=most, before=before
                )
            except StoreUnavailable:
                raise
            except Exception as error:
                if most > 1:
                    most = 1  # whatever it is that the store cannot take fails alone
                    continue
                failed = await waiting_posts.first(self._database, held, before)
                if failed is None:
                    return held
                # It is nobody's mistake but ours: it stays, and what is behind it in its conversation, too.
                log.error("waiting_posts.not_taken", conversation_id=str(failed), exc_info=error)
                self._failed[failed] = now + _FAILED_SECONDS
                held.add(failed)
                most = limits.GROUP_COMMANDS
                continue
            if taken is None:
                return held
            self._tell(taken)
            held |= taken.held
            more = taken.more
        return held

    async def _post_one(self, connection: Connection, one: Waiting) -> Callable[[], None] | None:
        """Post what waited for its conversation to be made; what is to be told once that is committed, and None where
        somebody holds the conversation. Raises `Problem` for what is refused."""
        made = command(one)
        if isinstance(made, Problem):
            raise made
        [answer], growths, _ = await batch.write(
            self._database, connection, [[made]], self._followed, self._edit_window, patient=False
        )
        if answer is batch.HELD:
            return None
        if isinstance(answer, Problem):
            raise answer
        assert isinstance(answer, list)
        taken = TakenPosts([(made, answer)], growths, 0, set(), more=False)
        return lambda: self._tell(taken)

    def _tell(self, taken: TakenPosts) -> None:
        metrics.WAITING_POSTS.labels("posted").inc(len(taken.units))
        metrics.WAITING_POSTS.labels("refused").inc(taken.refused)
        for post, written in taken.units:
            self._on_written([post], written)
        if taken.growths:
            self._on_growth(taken.growths)


def command(one: Waiting) -> Post | Problem:
    """What a backend would have asked for over HTTP, held to the same."""
    backend = Caller(one.posted_as, service=True, request_id=f"ticket {one.ticket}")
    try:
        wanted = KeyedMessage.model_validate(_content(one))
        return make_post(one.conversation_id, backend, wanted, wanted.key)
    except ValidationError as error:
        return problems.from_validation(error.errors(include_url=False), skip=0)
    except Problem as problem:
        return problem
    except Exception as error:  # a bug of ours, and no reason for what is behind it to wait for ever
        log.error("waiting_posts.not_read", ticket=one.ticket, exc_info=error)
        return InternalError("this is a bug of the service; its log has the ticket")


def _content(one: Waiting) -> dict[str, Any]:
    """What it asks for. Raises `TooLarge`, `InvalidRequest` for what could never be right."""
    if one.body is None or one.mentions is None or one.attributes == "":
        raise TooLarge("the body, the attributes or the mentions are far larger than a message may have")
    try:
        attributes = {} if one.attributes is None else orjson.loads(one.attributes)
    except ValueError as error:
        raise invalid("/attributes", f"cannot be read as JSON: {error}") from None
    return {
        "key": one.key,
        "body": one.body,
        "format": one.format,
        "attributes": attributes,
        "mentions": one.mentions,
        "reply_to": one.reply_to,
        "on_behalf_of": one.author_id,
    }
