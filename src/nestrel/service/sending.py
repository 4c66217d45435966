"""The requests of a webhook: what goes into one, its signature, and what came of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import NamedTuple
from uuid import UUID

from nestrel.core import limits
from nestrel.core.cursors import CursorSeal
from nestrel.core.times import format_time
from nestrel.core.webhooks import Failing, Replay, State, Webhook, failed, message_id, signed
from nestrel.service import metrics
from nestrel.service.consumers import Lease, LeaseLost
from nestrel.service.outbound import Answer, Outbound
from nestrel.store.database import Database
from nestrel.store.read.changes import Changes
from nestrel.store.read.moving import Item, Position
from nestrel.store.write import webhooks
from nestrel.store.write.webhooks import Outcome


def owner(id_: UUID) -> str:
    """Whom a webhook's cursors are for; no user is called so."""
    return f"\x1fwebhook {id_}"


class Request(NamedTuple):
    """What one request holds, as JSON, and where the webhook stands when it is taken: at a `position`, or, without one,
    with what is left of a `replay`."""

    type: str
    items: list[bytes]
    position: Position | None
    replay: Replay | None = None


class Sender:
    """Sends the requests of one webhook. `now` is the clock by which it is tried again."""

    def __init__(
        self, id_: UUID, database: Database, seal: Callable[[], CursorSeal], outbound: Outbound,
        now: Callable[[], datetime],
    ) -> None:  # fmt: skip
        self._id = id_
        self._database = database
        self._seal = seal
        self._outbound = outbound
        self._now = now

    def item(self, changes: Changes) -> bytes:
        cursor = self._seal().conversation(owner(self._id), changes.conversation_id, changes.end)
        return b'{"base":null,"cursor":"%s",%s' % (cursor.encode(), changes.packed())

    def requests(self, items: Sequence[Item], end: Position) -> Iterator[Request]:
        """In the order of conversations; whoever has taken the last stands at the `end`."""
        texts = [self._text(item) for item in items]
        taken = 0
        for type_, some in self.bounded(texts):
            taken += len(some)
            yield Request(type_, some, end if taken == len(items) else items[taken - 1].position)

    def _text(self, item: Item) -> tuple[str, bytes]:
        if item.changes is None:
            return "closed", f'{{"conversation_id":"{item.conversation_id}"}}'.encode()
        return "changes", self.item(item.changes)

    def bounded(self, texts: Sequence[tuple[str, bytes]]) -> Iterator[tuple[str, list[bytes]]]:
        """In requests of one kind each, and none larger than it may be."""
        kind, some, size = "", list[bytes](), 0
        for type_, text in texts:
            if some and (kind != type_ or size + len(text) >= limits.WEBHOOK_ITEM_BYTES):
                yield kind, some
                some, size = [], 0
            kind = type_
            some.append(text)
            size += len(text) + 1
        if some:
            yield kind, some

    async def send(self, lease: Lease, hook: Webhook, request: Request, position: Position) -> Answer:
        """Send one request, and write down what came of it and where the webhook stands: at `position` if it was taken.

        Raises:
            LeaseLost: somebody else sends by now; what was sent may come once more.
        """
        now = self._now()
        cursor = self._seal().all(owner(self._id), position)
        content = b'"items":[%s],"cursor":"%s"' % (b",".join(request.items), cursor.encode())
        id_ = message_id(self._id, content)
        head = f'{{"type":"{request.type}","timestamp":"{format_time(now)}","data":{{'.encode()
        body = b'%s%s,"lease":%d}}' % (head, content, lease.number)
        headers = {
            "content-type": "application/json", "user-agent": "nestrel",
            **signed(hook.secrets, id_, now.timestamp(), body),
        }  # fmt: skip
        lease.check()
        begun = self._now()
        answer = await self._outbound.post(hook.url, headers, body)
        attempt = hook.failing.attempt + 1
        if answer.taken:
            replay = request.replay if request.position is None else hook.replay
            came = Outcome(begun, attempt, answer.status, answer.ms, None, Failing(), cursor, replay)
        else:
            state, failing = failed(hook.failing, self._now(), answer.status, answer.wait)
            came = Outcome(begun, attempt, answer.status, answer.ms, answer.error, failing, None, hook.replay,
                           state is State.STOPPED)  # fmt: skip
        metrics.WEBHOOK_REQUESTS.labels("taken" if answer.taken else "failed").inc()
        if not await webhooks.note(self._database, self._id, lease.number, came):
            raise LeaseLost(lease.name)
        return answer
