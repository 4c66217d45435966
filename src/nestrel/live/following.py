"""What one connection follows, and what is to be sent on it next; for a WebSocket and for a stream of events alike.

Nothing is queued here but what has no other place: change sets lie in the hub or in the store until `next` fetches
one, so a reader that is slow costs a position for each conversation.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Callable, Container, Sequence
from uuid import UUID

import structlog

from nestrel.core import limits
from nestrel.core.callers import Caller
from nestrel.core.cursors import AllPosition, ChangePosition, CursorSeal
from nestrel.core.problems import Forbidden, NotFound, Problem, SlowDown
from nestrel.core.rights import no_conversation
from nestrel.live import metrics
from nestrel.live.behind import Ahead, beyond, has_all, read_together
from nestrel.live.channel import Follower
from nestrel.live.deliveries import Checkpoint, Delivery, Ended, Event, Rewound
from nestrel.live.everything import Everything
from nestrel.live.hub import Hub
from nestrel.live.returns import Returns
from nestrel.live.source import Gone, Source
from nestrel.live.waiting import Retried
from nestrel.store.events import Signal
from nestrel.store.read.changes import Changes
from nestrel.store.tracing import tracing

log = structlog.get_logger()

_CATCH_UP_ROWS = 500
_CATCH_UP_RETRY_SECONDS = 1.0


class Following:
    """`Listener` of the hub. `stirred` is called whenever `next` may have something, `delivered` with each change set
    that it gives."""

    def __init__(
        self,
        hub: Hub,
        source: Source,
        returns: Returns,
        seal: Callable[[], CursorSeal],
        caller: Caller,
        stirred: Callable[[], None],
        delivered: Callable[[UUID, str], None] = lambda _conversation_id, _user_id: None,
    ) -> None:
        self.caller = caller
        self.follows: dict[UUID, Follower] = {}
        self.generation = 0
        """Grows before each registration at the hub: a checkpoint asked for before says nothing of what came."""
        self._hub = hub
        self._source = source
        self._returns = returns
        self._seal = seal
        self._stirred = stirred
        self._delivered = delivered
        self._all = False
        self._all_started = False
        self._early: set[UUID] = set()
        self._left_out: set[UUID] = set()
        self._dirty: dict[Follower, None] = {}
        self._unsettled: set[Follower] = set()
        self._ended: deque[Ended] | None = None
        self._joining = Retried(stirred)
        """What is done about what was joined: no checkpoint comes before that."""
        self._rejoined: set[UUID] = set()
        self._checkpoint: AllPosition | None = None
        self._lacking: dict[Follower, int] | None = None
        self._sent = False
        self._owed = False
        self._rewound = False
        self._signals: dict[Signal, None] | None = None
        self._over = False
        self._ahead: Ahead | None = None
        self.everything: Everything | None = None
        """What a backend follows that follows all of the store."""

    # Commands

    async def follow(self, conversation_id: UUID, start: ChangePosition | None, token: str | None) -> str | None:
        """Follow one conversation, from a position (`token` is its cursor) or from now on; returns the cursor that it
        begins at. The follower is registered before access is looked at: whoever loses it in between is told by the
        hub.

        Raises:
            NotFound, Forbidden: the caller may not see it, or not follow it.
            SlowDown: these are too many.
        """
        present = self.follows.get(conversation_id)
        if present is None and len(self.follows) >= limits.FOLLOWS_PER_SOCKET:
            raise SlowDown(f"one connection follows at most {limits.FOLLOWS_PER_SOCKET:,} conversations; unfollow some")
        (follower,) = await self._register([conversation_id])
        try:
            await self._source.check(self.caller, conversation_id)
        except BaseException:
            self._hub.unfollow(follower)
            raise
        present = self.follows.get(conversation_id)
        if present is not None:
            self._hub.unfollow(follower)
            follower = present
        elif follower.live:
            self._add(follower)
        else:
            raise no_conversation(conversation_id)  # membership ended while we looked
        self._left_out.discard(conversation_id)
        if start is not None and (follower.at is None or present is None or start.rev < follower.at.rev):
            follower.at, follower.cursor = start, token
        self.wake(follower)
        return self._cursor_of(follower)

    async def follow_all(self, since: AllPosition | None) -> tuple[AllPosition, bool]:
        """Follow every conversation of the member's, from a snapshot or from now on, and those joined later. Returns
        where it begins, and whether that is at nothing because `since` is of a state that is not this store's."""
        user_id = self.caller.user_id
        self._all = True
        await self._hub.watch(user_id, self)
        begin = since or await self._returns.now()
        mine = await self._returns.mine(user_id, begin)
        followers = await self._register([id_ for id_ in mine.ids if id_ not in self.follows])
        generation = self.generation
        try:
            back = await self._returns.back(user_id, begin, mine)
        except BaseException:
            for follower in followers:
                self._hub.unfollow(follower)
            raise
        self._add_all(followers, but=back.ended)
        for id_, start in back.begun.items():
            if (held := self.follows.get(id_)) is None:
                self.joined(id_)
            elif start is None or held.at is None or start.rev < held.at.rev:
                held.at, held.cursor = start, None
                self.wake(held)
        if since is not None:
            for id_, reason in back.ended.items():
                self._tell_end(id_, reason)
        self._left_out.clear()
        self._all_started = True
        self._owed = True  # one checkpoint says that it has caught up, also where nothing came
        while self._early:
            self.joined(self._early.pop())
        if back.hold is not None and generation == self.generation:
            self._reach_at_once(back.now, back.hold)
        self._stirred()
        return (back.now if back.from_nothing else begin), back.from_nothing

    def _add_all(self, followers: Sequence[Follower], but: Container[UUID]) -> None:
        added = 0
        for follower in followers:
            if follower.channel.id in self.follows or follower.channel.id in but or not follower.live:
                self._hub.unfollow(follower)
                continue
            follower.started = True
            follower.channel.connections += 1
            self.follows[follower.channel.id] = follower
            added += 1
            if follower.at is not follower.channel.at:  # what came before it was started has been passed over
                self._dirty[follower] = None
        metrics.FOLLOWS.inc(added)

    def _reach_at_once(self, now: AllPosition, hold: dict[UUID, int]) -> None:
        """Say that everything up to a snapshot has been sent as soon as it has, and not with the next turn for all:
        what moved lately, and the hub has not handed on yet, is waited for."""
        lacking = dict[Follower, int]()
        for id_, rev in hold.items():
            follower = self.follows.get(id_)
            at = follower.channel.at if follower is not None else None
            if follower is not None and (at is None or at.rev < rev):
                lacking[follower] = rev
        self._hub.expect({follower.channel.id: rev for follower, rev in lacking.items()})
        self._checkpoint, self._lacking = now, lacking or None

    def unfollow(self, conversation_id: UUID) -> None:
        follower = self.follows.pop(conversation_id, None)
        if follower is not None:
            self._forget(follower)
            if self._all:
                self._left_out.add(conversation_id)

    def end_all(self) -> None:
        """The connection has ended."""
        self._over = True
        self._hub.unwatch(self.caller.user_id, self)
        self._joining.end()
        if self.everything is not None:
            self.everything.end()
        for follower in self.follows.values():
            self._hub.leave(follower.channel)
            self._hub.unfollow(follower)
        metrics.FOLLOWS.dec(len(self.follows))
        self.follows.clear()
        self._dirty.clear()
        self._unsettled.clear()
        self._ahead = self._lacking = None

    async def _register(self, conversation_ids: list[UUID]) -> list[Follower]:
        self.generation += 1
        return await self._hub.follow(conversation_ids, self.caller.user_id, self)

    def _add(self, follower: Follower) -> None:
        follower.started = True
        self.follows[follower.channel.id] = follower
        metrics.FOLLOWS.inc()
        follower.channel.connections += 1
        self.wake(follower)  # whatever came before it was started has been passed over

    def _forget(self, follower: Follower) -> None:
        self._hub.unfollow(follower)
        self._drop(follower)
        metrics.FOLLOWS.dec()
        self._hub.leave(follower.channel)

    def _drop(self, follower: Follower) -> None:
        """Nothing is to be sent to one any more."""
        self._dirty.pop(follower, None)
        self._unsettled.discard(follower)
        if self._ahead is not None:
            self._ahead.drop(follower)

    def _cursor_of(self, follower: Follower) -> str | None:
        """The conversation cursor of all that was sent to a follower."""
        if follower.cursor is None and follower.at is not None:
            follower.cursor = self._seal().conversation(self.caller.user_id, follower.channel.id, follower.at)
        return follower.cursor

    # The hub's side

    def wake(self, follower: Follower) -> None:
        self._dirty[follower] = None
        self._stirred()

    def end(self, follower: Follower, reason: str) -> None:
        conversation_id = follower.channel.id
        self._drop(follower)
        if self.follows.get(conversation_id) is not follower:
            return  # whoever was about to follow finds out that it may not
        del self.follows[conversation_id]
        metrics.FOLLOWS.dec()
        self._hub.leave(follower.channel)
        self._tell_end(conversation_id, reason)
        if conversation_id in self._rejoined:
            self.joined(conversation_id)  # word of it came while the end of before was still to be told
        self._stirred()

    def _tell_end(self, conversation_id: UUID, reason: str) -> None:
        self._ended = self._ended or deque()  # most connections never have one, and an empty one is not small
        self._ended.append(Ended(conversation_id, reason))

    def joined(self, conversation_id: UUID) -> None:
        if conversation_id in self._left_out or not self._all or self._over:
            return
        if conversation_id in self.follows:
            self._rejoined.add(conversation_id)
            return
        if not self._all_started:
            self._early.add(conversation_id)  # nothing is sent before the answer that says where it all begins
            return
        self._joining.start(lambda: self._follow_joined(conversation_id))

    def renewed(self) -> None:
        """The database has another history, in which the member may be in conversations that were left, or never
        joined, in the one before."""
        self._checkpoint = None
        self.generation += 1
        self._rewound = True
        self._stirred()
        self.look_again()

    def signalled(self, follower: Follower, signal: Signal) -> None:
        """One that waits is told once; a connection that is not read from misses them."""
        if self.follows.get(follower.channel.id) is follower and len(self._signals or ()) < limits.SIGNALS:
            self._signals = self._signals or {}  # most connections never have one
            self._signals[signal] = None
            self._stirred()

    def look_again(self) -> None:
        """Word of what the member joined may have been lost."""
        if self._all_started:
            self._joining.start(self._look_for_joined)

    async def _look_for_joined(self) -> None:
        for conversation_id in await self._source.mine(self.caller.user_id):
            if conversation_id not in self.follows:
                self.joined(conversation_id)

    async def _follow_joined(self, conversation_id: UUID) -> None:
        (follower,) = await self._register([conversation_id])
        try:
            await self._source.check(self.caller, conversation_id)
        except (NotFound, Forbidden):
            self._hub.unfollow(follower)  # left again, before word of the joining had come
            return
        except BaseException:
            self._hub.unfollow(follower)
            raise
        if not follower.live:
            return
        if conversation_id in self.follows or conversation_id in self._left_out or self._over:
            self._hub.unfollow(follower)
            return
        self._rejoined.discard(conversation_id)
        follower.at = None  # a conversation that is new to the client begins with its newest page
        self._add(follower)

    @property
    def behind(self) -> int:
        """Of how many conversations something is to be sent."""
        return len(self._dirty)

    @property
    def follows_all(self) -> bool:
        """Whether checkpoints are of use: nothing of the member's was left out at the client's wish."""
        return self._all_started and not self._left_out

    def reached(self, at: AllPosition) -> None:
        """The hub has handed on all up to a snapshot: say so once that, too, has been sent."""
        self._checkpoint, self._lacking = at, None
        self._stirred()

    # Sending

    @property
    def pending(self) -> bool:
        """Whether `next` would give something, or might."""
        something = self._dirty or self._ended or self._rewound or self._signals
        if something or (self._checkpoint is not None and self._settled):
            return True
        return self.everything is not None and self.everything.pending

    @property
    def _settled(self) -> bool:
        return not (self._dirty or self._unsettled or self._joining or self._ended or self._lacks())

    def _lacks(self) -> bool:
        """Whether the hub has still to hand on something that came before the checkpoint that waits for it."""
        if self._lacking:
            self._lacking = {
                follower: rev
                for follower, rev in self._lacking.items()
                if follower.live and (follower.at is None or follower.at.rev < rev)
            }
        return bool(self._lacking)

    async def next(self) -> Event | None:
        """What is to be sent next, None for nothing now. What it gives counts as sent."""
        if self._rewound:
            self._rewound = False
            return Rewound()
        while self._signals:
            signal = next(iter(self._signals))
            del self._signals[signal]
            if signal.conversation_id in self.follows:
                return signal
        while self._ended or self._dirty:
            if self._ended:
                self._sent = True
                return self._ended.popleft()
            follower = next(iter(self._dirty))
            # To the end of the row: one with much to catch up on does not hold up the others.
            if len(self._dirty) > 1:
                del self._dirty[follower]
                self._dirty[follower] = None
            found = await self._deliver(follower)
            if found is not None:
                self._sent = True
                return found
        if self._checkpoint is None or not self._settled:
            return await self.everything.next() if self.everything is not None else None
        at, self._checkpoint = self._checkpoint, None
        if not (self._sent or self._owed) or not self.follows_all:
            return None
        self._sent = self._owed = False
        return Checkpoint(self._seal().all(self.caller.user_id, at))

    async def _deliver(self, follower: Follower) -> Delivery | None:
        """One change set of one conversation; the rest waits for the next turn."""
        if has_all(follower):
            self._dirty.pop(follower, None)
            return None
        entry = follower.channel.next_entry(follower.at) if follower.at is not None else None
        if entry is not None:
            return self._moved_on(follower, entry.end, entry.tail, read=entry.read)
        ahead = self._ahead.take(follower) if self._ahead is not None else None
        return self._caught_up(follower, ahead) if ahead is not None else await self._catch_up(follower)

    def _moved_on(self, follower: Follower, end: ChangePosition, tail: str, *, read: bool) -> Delivery:
        base = self._cursor_of(follower)
        cursor = self._seal().conversation(follower.user_id, follower.channel.id, end)
        before, follower.at, follower.cursor = follower.at, end, cursor
        latest = follower.channel.at
        if latest is not None and end.complete and beyond(end, latest):
            self._dirty.pop(follower, None)
        metrics.DELIVERIES.inc()
        if tracing.tracer is not None:
            tracing.delivered(follower.channel.id, before.rev if before is not None else 0, end.rev)
        self._delivered(follower.channel.id, follower.user_id)
        return Delivery(base, cursor, tail, read)

    async def _catch_up(self, follower: Follower) -> Delivery | None:
        """Read from the store what the ring does not hold; of others that are behind as well, what goes into the same
        answer. Who may no longer read gets nothing."""
        wanted = read_together(follower, self._dirty)
        try:
            found = await self._source.catch_up(self.caller, list(wanted.values()), _CATCH_UP_ROWS)
        except Problem:
            for one in wanted:
                self._dirty.pop(one, None)
                if one.live:
                    self._unsettled.add(one)
                    asyncio.get_running_loop().call_later(_CATCH_UP_RETRY_SECONDS, self._again, one)
            return None
        for want in wanted.values():
            read = found.get(want.conversation_id)
            if isinstance(read, Changes):
                self._hub.keep(read, want.upto)
        self._ahead = Ahead(wanted, found)
        mine = self._ahead.take(follower)
        if len(found) == 1:
            self._ahead = None  # most connections never have one
        if mine is None or not follower.live:
            return None  # it ended meanwhile, or was asked to begin elsewhere
        return self._caught_up(follower, mine)

    def _caught_up(self, follower: Follower, found: Changes | Gone) -> Delivery | None:
        if isinstance(found, Gone):
            self._hub.unfollow(follower)
            self.end(follower, found.reason)
            return None
        metrics.CATCH_UPS.inc()
        if found.end == follower.at:
            self._dirty.pop(follower, None)
            return None
        return self._moved_on(follower, found.end, found.tail(), read=True)

    def check_again(self) -> None:
        """The caller may do less than before: whatever of it may not be followed ends."""
        if self.everything is not None:
            self.everything.end()
            self.everything = None
        self._joining.start(self._drop_forbidden)

    async def _drop_forbidden(self) -> None:
        for conversation_id, follower in list(self.follows.items()):
            try:
                await self._source.check(self.caller, conversation_id)
            except (NotFound, Forbidden):
                if self.follows.get(conversation_id) is follower:
                    self._hub.unfollow(follower)
                    self.end(follower, "removed")

    def _again(self, follower: Follower) -> None:
        self._unsettled.discard(follower)
        if follower.live:
            self.wake(follower)
