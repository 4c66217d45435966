"""Notices to devices: encrypted, to the push services of their browsers (RFC 8030), and once more where that failed."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import NamedTuple
from urllib.parse import urlsplit
from uuid import UUID

import orjson
import structlog

from nestrel.core.notices import Content, Notice, again_after, topic
from nestrel.live.looking import Lookings
from nestrel.service import metrics
from nestrel.service.outbound import SECONDS, Answer, Outbound
from nestrel.service.push_keys import PushKey, encrypted
from nestrel.service.push_turns import Turns
from nestrel.store.database import Database
from nestrel.store.read import noticing
from nestrel.store.read.noticing import RecipientPosition
from nestrel.store.write import subscriptions
from nestrel.store.write.subscriptions import Parcel

log = structlog.get_logger()

_SOON_SECONDS = 2.0
"""Who has not answered by then is not waited for."""
_CLAIMED_SECONDS = SECONDS + 5
_PUT_OFF_SECONDS = 5.0
_ONE_PLACE = 5
"""Of so many messages of one conversation a device is told together; of more, of the newest."""
AT_ONCE = 100
_GONE = frozenset({404, 410})
_TOO_LARGE = 413


class Addressed(NamedTuple):
    """A notice, and the device that is told."""

    notice: Notice
    parcel: Parcel


class Pushing:
    """Tells devices. `key` gives the service's own key; `url` is where its console is found."""

    def __init__(
        self, database: Database, outbound: Outbound, looking: Lookings, key: Callable[[], PushKey], content: Content,
        url: str,
    ) -> None:  # fmt: skip
        self._database = database
        self._outbound = outbound
        self._looking = looking
        self._key = key
        self._content = content
        self._url = url
        self._slow: set[asyncio.Task[None]] = set()
        self._turns = Turns()

    async def tell(self, notices: Sequence[Notice]) -> None:
        """Tell all devices of some people, of what they are not looking at and is not too old. It comes back when they
        have been told, or it is written down that they are to be."""
        for one in await self._addressed(self._few(notices)):
            await self._send(one)

    async def again(self) -> bool:
        """Tell once more what is due; whether there was something. It is decided anew."""
        parcels = await subscriptions.claim(self._database, AT_ONCE, _CLAIMED_SECONDS)
        if parcels:
            asked = [RecipientPosition(one.conversation_id, one.seq, one.subscription.user_id) for one in parcels]
            async with self._database.snapshot() as connection:
                found = {(one.conversation_id, one.seq, one.user_id): one for one in
                         await noticing.alone(connection, asked)}  # fmt: skip
            wanted, over = list[Addressed](), list[Parcel]()
            for parcel, told in zip(parcels, asked, strict=True):
                notice = found.get(told)
                if notice is None or not self._is_wanted(notice):
                    over.append(parcel)
                else:
                    wanted.append(Addressed(notice, parcel))
            await subscriptions.done(self._database, over)
            await self._send(wanted)
        return bool(parcels)

    def _few(self, notices: Sequence[Notice]) -> list[Notice]:
        """The newest of each conversation for each person, in order."""
        kept, counts = list[Notice](), Counter[tuple[str, object]]()
        for one in reversed(notices):
            of = (one.user_id, one.conversation_id)
            counts[of] += 1
            if counts[of] <= _ONE_PLACE and self._is_wanted(one):
                kept.append(one)
        return kept[::-1]

    def _is_wanted(self, notice: Notice) -> bool:
        if self._looking.at(notice.user_id, notice.conversation_id):
            return False
        return time.time() - notice.created_at.timestamp() < self._content.ttl.total_seconds()

    async def _addressed(self, notices: Sequence[Notice]) -> list[list[Addressed]]:
        """To each of their devices, in parts that are sent together."""
        async with self._database.read() as connection:
            found = await subscriptions.of(connection, list({one.user_id for one in notices}))
        all_ = [
            Addressed(notice, Parcel(one, notice.conversation_id, notice.seq))
            for notice in notices
            for one in found
            if one.user_id == notice.user_id
        ]
        return [all_[n : n + AT_ONCE] for n in range(0, len(all_), AT_ONCE)]

    async def _send(self, some: Sequence[Addressed]) -> None:
        """Send some together to services that are known to answer, and others beside them. Who is not known, or hangs,
        is written down first, so that nobody waits for them who comes behind."""
        tasks = dict[asyncio.Task[Answer], Addressed]()
        together, apart, off = list[Addressed](), list[Addressed](), list[tuple[Parcel, float]]()
        now = time.monotonic()
        for one in some:
            if self._turns.is_good(_origin(one), now):
                together.append(one)
            elif self._turns.take(_origin(one), one.notice.user_id, now):
                apart.append(one)
            else:
                off.append((one.parcel, _PUT_OFF_SECONDS))
        try:
            await subscriptions.keep(self._database, [*off, *((one.parcel, _CLAIMED_SECONDS) for one in apart)])
        except BaseException:
            for one in apart:
                self._turns.leave(_origin(one), one.notice.user_id)
            raise
        before = dict[tuple[UUID, UUID], asyncio.Task[Answer]]()
        for one in apart:
            self._wait_apart(self._begin(one, before), one)
        try:
            for one in together:
                tasks[self._begin(one, before)] = one
            if tasks:
                await asyncio.wait(tasks, timeout=_SOON_SECONDS)
            slow = [task for task in tasks if not task.done()]
            await subscriptions.keep(self._database, [(tasks[task].parcel, _CLAIMED_SECONDS) for task in slow])
            for task in slow:
                one = tasks.pop(task)
                self._turns.move(_origin(one), one.notice.user_id)
                self._wait_apart(task, one)
            for task, one in tasks.items():
                await self._settle(one.parcel, task.result())
        finally:
            for task in tasks:
                task.cancel()

    def _begin(
        self, one: Addressed, before: dict[tuple[UUID, UUID], asyncio.Task[Answer]]
    ) -> asyncio.Task[Answer]:  # fmt: skip
        """A notice takes the place of those of its conversation that a push service still holds, so that a device is
        told of each conversation in order. `before` has the last of each, and gets this one."""
        to = one.parcel.subscription.id, one.notice.conversation_id
        before[to] = task = asyncio.create_task(self._tell(one, before.get(to)))
        return task

    def _wait_apart(self, task: asyncio.Task[Answer], one: Addressed) -> None:
        """It is written down already, and has a turn: what comes of it is seen to whenever it comes."""

        async def wait() -> None:
            await self._settle(one.parcel, await task)

        def over(waiting: asyncio.Task[None]) -> None:
            task.cancel()
            self._slow.discard(waiting)
            self._turns.leave(_origin(one), one.notice.user_id)
            if not waiting.cancelled() and (error := waiting.exception()) is not None:
                log.info("push.not_noted", reason=str(error))

        waiting = asyncio.create_task(wait())
        self._slow.add(waiting)
        waiting.add_done_callback(over)

    async def _settle(self, parcel: Parcel, answer: Answer) -> None:
        """See to what came of telling one device."""
        outcome, wait = "taken", None
        origin, now = _origin_of(parcel), time.monotonic()
        if answer.status is None:
            self._turns.failed(origin, now)
        else:
            self._turns.answered(origin, now)
        if answer.status in _GONE:
            outcome = "gone"
            await subscriptions.drop(self._database, [parcel.subscription.id])
        elif not answer.taken:
            attempt = parcel.attempt + 1
            wait = again_after(attempt, answer.wait) if _passes(answer.status) else None
            outcome = "given up" if wait is None else "put off"
            log.info("push.not_taken", status=answer.status, reason=answer.error, attempt=attempt, outcome=outcome)
            parcel = replace(parcel, attempt=attempt)
        if wait is not None:
            await subscriptions.keep(self._database, [(parcel, wait)])
        elif outcome != "gone":
            await subscriptions.done(self._database, [parcel])
        metrics.PUSHES.labels(outcome).inc()

    async def _tell(self, one: Addressed, before: asyncio.Task[Answer] | None) -> Answer:
        if before is not None:
            await asyncio.wait([before])
            if not before.cancelled() and before.exception() is None and before.result().status is None:
                return before.result()  # It does not answer: to ask it once more now is to wait for it once more.
        answer = await self._ask(one, self._content)
        if answer.status == _TOO_LARGE and self._content is Content.FULL:
            return await self._ask(one, Content.TITLE)
        return answer

    async def _ask(self, one: Addressed, content: Content) -> Answer:
        to = one.parcel.subscription
        text = orjson.dumps(one.notice.wire(content, self._url))
        headers = {
            "authorization": self._key().authorization(to.endpoint),
            "content-encoding": "aes128gcm",
            "content-type": "application/octet-stream",
            "ttl": str(int(self._content.ttl.total_seconds())),
            "topic": topic(to.id, one.notice.conversation_id),
            "user-agent": "nestrel",
        }
        return await self._outbound.post(to.endpoint, headers, encrypted(text, to.p256dh, to.auth))

    async def stop(self) -> None:
        """What has no answer yet is written down."""
        for task in self._slow:
            task.cancel()
        if self._slow:
            await asyncio.wait(self._slow, timeout=1)


def _origin(one: Addressed) -> str:
    return _origin_of(one.parcel)


def _origin_of(parcel: Parcel) -> str:
    return urlsplit(parcel.subscription.endpoint).netloc


def _passes(status: int | None) -> bool:
    """Whether it may go better another time: who did not answer, is busy, or has a fault of its own. An address that
    may not be asked gets no answer either, and comes to its end by the count."""
    return status is None or status == 429 or status >= 500
