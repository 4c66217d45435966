"""The hub of one process: a short ring of change sets for each followed conversation, from which followers pull.

There is no queue for a follower: it is a position. What it has not pulled yet lies once in the ring, and what has
fallen out of the ring is read from the store again, as for any client that was away.
"""

from __future__ import annotations

import asyncio
import time
from collections import OrderedDict
from collections.abc import Callable, Coroutine, Mapping, Sequence
from itertools import chain
from typing import Any
from uuid import UUID

import structlog

from nestrel.core.cursors import ChangePosition
from nestrel.live import metrics
from nestrel.live.bus import Attention, Everything
from nestrel.live.channel import Channel, Entry, Follower, Listener
from nestrel.live.sharing import Shared
from nestrel.live.source import Source
from nestrel.store.events import Moved, Signal
from nestrel.store.read.changes import Changes, State
from nestrel.store.write.answers import Growth

log = structlog.get_logger()

_READ_ROWS = 500
_READ_RETRY_SECONDS = 1.0
_REACH_SECONDS = 5.0
_KEPT_SECONDS = 5.0
"""For so long what one has read serves others: those who come back at one moment."""
_LOCATED = 100
"""So many who begin to follow something share a question."""
_TOGETHER = 64
"""So many conversations that have moved elsewhere share a reading."""

_Asked = tuple[UUID, ChangePosition]


class Hub:
    """Hands change sets to followers in the order of `rev`, whether they come from this process's own commits or,
    after a word from the bus, from the store."""

    def __init__(self, source: Source, attention: Attention | None = None, most: int = 64 * 1024 * 1024) -> None:
        self._most = most
        """Bytes that the rings of all conversations keep together."""
        self._source = source
        self._located = Shared[Sequence[UUID], dict[UUID, State]](self._locate_all, _LOCATED)
        self._since = Shared[_Asked, Changes | None | BaseException](self._read_together, _TOGETHER, 0.0)
        self._attention = attention or Everything()
        self.channels: dict[UUID, Channel] = {}
        self._watchers: dict[str, set[Listener]] = {}
        self._tasks: set[asyncio.Task[None]] = set()
        # The rings that hold something, the one that moved last at the end, and what all of them hold.
        self._rings: OrderedDict[UUID, Channel] = OrderedDict()
        self.ring_bytes = 0
        self.followers = 0
        self.leaving: Callable[[UUID, int], None] | None = None
        """Hears of each connection that follows a conversation no more: how many did."""

    # Followers

    async def follow(self, conversation_ids: Sequence[UUID], user_id: str, listener: Listener) -> list[Follower]:
        """Register a follower of each conversation, at its present position.

        Registration, and word from the bus, come before the positions are read: nothing that commits in between is
        lost.
        """
        followers: list[Follower] = []
        for conversation_id in conversation_ids:
            channel = self.channels.get(conversation_id)
            if channel is None:
                channel = self.channels[conversation_id] = Channel(conversation_id)
            follower = Follower(channel, user_id, listener)
            channel.followers.add(follower)
            self.followers += 1
            followers.append(follower)
        try:
            await self._attention.attend(conversation_ids)
            await self._locate([follower.channel for follower in followers if follower.channel.at is None])
        except BaseException:
            for follower in followers:
                self.unfollow(follower)
            raise
        for follower in followers:
            follower.at = follower.channel.at
        return followers

    async def _locate(self, channels: Sequence[Channel]) -> None:
        if not channels:
            return
        states = await self._located([channel.id for channel in channels])
        for channel in channels:
            if channel.at is None and channel.id in states:
                channel.at = states[channel.id].position
                self._want(channel, channel.wanted)

    async def _locate_all(self, asked: Sequence[Sequence[UUID]]) -> Sequence[dict[UUID, State]]:
        """Where conversations stand, for some who begin to follow them: of each once."""
        found = await self._source.states(list(dict.fromkeys(chain.from_iterable(asked))))
        return [found] * len(asked)

    def unfollow(self, follower: Follower) -> None:
        """Forget a follower; a conversation that nobody follows any more costs nothing."""
        if not follower.live:
            return
        follower.live = False
        self.followers -= 1
        channel = follower.channel
        channel.followers.discard(follower)
        if not channel.followers and self.channels.get(channel.id) is channel:
            del self.channels[channel.id]
            self._attention.neglect([channel.id])
            self._empty(channel)
            if channel.reading is not None:
                channel.reading.cancel()

    def leave(self, channel: Channel) -> None:
        """A connection follows a conversation no more."""
        if self.leaving is not None:
            self.leaving(channel.id, channel.connections)
        channel.connections -= 1

    async def watch(self, user_id: str, listener: Listener) -> None:
        """Tell a listener of conversations that the user joins."""
        self._watchers.setdefault(user_id, set()).add(listener)
        await self._attention.attend(users=[user_id])

    def unwatch(self, user_id: str, listener: Listener) -> None:
        listeners = self._watchers.get(user_id, set())
        listeners.discard(listener)
        if not listeners and self._watchers.pop(user_id, None) is not None:
            self._attention.neglect(users=[user_id])

    # What comes in

    def followed(self, conversation_id: UUID) -> bool:
        """Whether anyone here follows a conversation."""
        return conversation_id in self.channels

    @property
    def connections(self) -> dict[UUID, int]:
        """How many sockets and streams follow each conversation that any do."""
        return {id_: channel.connections for id_, channel in self.channels.items() if channel.connections}

    def grown(self, growths: Sequence[Growth]) -> None:
        """This process has committed changes."""
        for growth in growths:
            channel = self.channels.get(growth.conversation_id)
            if channel is None:
                continue
            at, epoch = channel.at, growth.epoch
            if at is None or at.epoch != epoch or growth.rev_before > at.rev or not growth.followed:
                self._want(channel, growth.rev)
                continue
            start = ChangePosition(growth.rev_before, growth.head_before, growth.rev_before, epoch)
            end = ChangePosition(growth.rev, growth.head, growth.rev, epoch)
            grown = Changes(growth.conversation_id, start, end, growth.head, growth.floor,
                            messages=growth.messages, members=growth.members, profiles=growth.profiles)  # fmt: skip
            self._push(channel, grown)

    def heard(self, moved: Sequence[Moved]) -> None:
        """The bus says that conversations moved."""
        metrics.BUS_NEEDED.inc(sum(map(self._take, moved)))

    def expect(self, wanted: Mapping[UUID, int]) -> None:
        """Conversations that are followed here have moved, each up to a `rev`."""
        for conversation_id, rev in wanted.items():
            channel = self.channels.get(conversation_id)
            if channel is not None:
                self._want(channel, rev)

    def _take(self, event: Moved) -> bool:
        """Go after what moved; whether somebody here has to hear of it."""
        channel = self.channels.get(event.conversation_id)
        if channel is not None:
            self._want(channel, event.rev)
        watching = [listener for user_id in event.joined for listener in self._watchers.get(user_id, ())]
        for listener in watching:
            listener.joined(event.conversation_id)
        return channel is not None or bool(watching)

    def signalled(self, signals: Sequence[Signal]) -> None:
        """Somebody here or elsewhere says something to those who follow; not to themself."""
        for signal in signals:
            channel = self.channels.get(signal.conversation_id)
            for follower in tuple(channel.followers) if channel is not None else ():
                if follower.user_id != signal.user_id and follower.started:
                    follower.listener.signalled(follower, signal)

    async def reach(self, moved: Sequence[Moved]) -> dict[UUID, int]:
        """Hear of what moved, and wait until all of it has been handed on; returns what could not be, as the store
        could not be read."""
        for event in moved:
            self._take(event)
        wanted = {event.conversation_id: event.rev for event in moved if event.rev}
        reading = [
            channel.reading for id_ in wanted if (channel := self.channels.get(id_)) is not None and channel.reading
        ]
        if reading:
            await asyncio.wait(reading, timeout=_REACH_SECONDS)
        return self.unreached(wanted)

    def unreached(self, wanted: dict[UUID, int]) -> dict[UUID, int]:
        """What of conversations that moved has not been handed on yet."""
        return {
            id_: rev
            for id_, rev in wanted.items()
            if (channel := self.channels.get(id_)) is not None and (channel.at is None or channel.at.rev < rev)
        }

    @property
    def watched(self) -> bool:
        """Whether anyone is told what their member joins."""
        return bool(self._watchers)

    def watchers(self) -> set[Listener]:
        """All who are told what their members join."""
        return {listener for listeners in self._watchers.values() for listener in listeners}

    def look_at(self, channel: Channel) -> None:
        """Something may have happened in a conversation of which no event told."""
        if channel.at is not None:
            self._want(channel, channel.at.rev + 1, once=True)

    def look_again(self) -> dict[UUID, asyncio.Task[None]]:
        """Events may have been lost: look at every followed conversation. Gives what is under way for each."""
        for channel in self.channels.values():
            self.look_at(channel)
        return {id_: channel.reading for id_, channel in self.channels.items() if channel.reading is not None}

    # Another history

    def renew(self) -> None:
        """The database has been restored or has failed over. What the rings hold is of before; each follower is looked
        at anew, and goes on from where it is or, where that is lost, from the newest page."""
        for channel in self.channels.values():
            if channel.reading is not None:
                channel.reading.cancel()
                channel.reading = None  # one that had not begun would not say so itself
            self._empty(channel)
            channel.at, channel.floor, channel.wanted = None, 1, 0
        self._run(self._relocate(list(self.channels.values())))
        everyone = {follower.listener for channel in self.channels.values() for follower in channel.followers}
        for listener in everyone | self.watchers():
            listener.renewed()

    async def _relocate(self, channels: Sequence[Channel]) -> None:
        while channels:
            try:
                states = await self._source.states([channel.id for channel in channels])
            except Exception as error:
                log.warning("hub.read_failed", reason=str(error))
                await asyncio.sleep(_READ_RETRY_SECONDS)
                continue
            for channel in channels:
                state = states.get(channel.id)
                if state is None or state.closed:
                    self._end_memberships(channel, {}, closed=True)
                elif channel.at is None:
                    channel.at = state.position
                    self._want(channel, channel.wanted)
                self._wake_all(channel)
            return

    def _empty(self, channel: Channel) -> None:
        self.ring_bytes -= channel.ring_bytes
        channel.empty()
        self._rings.pop(channel.id, None)

    def _run(self, work: Coroutine[Any, Any, None]) -> asyncio.Task[None]:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)
        return task

    # From the store to the ring

    def _want(self, channel: Channel, rev: int, *, once: bool = False) -> None:
        channel.wanted = max(channel.wanted, 0 if once else rev)
        if channel.at is None or (channel.at.rev >= rev) or channel.reading is not None:
            return
        channel.reading = self._run(self._read(channel))

    async def _read(self, channel: Channel) -> None:
        try:
            first = True
            while channel.at is not None and (first or channel.at.rev < channel.wanted):
                first = False
                start = channel.at
                try:
                    found = await self._since((channel.id, start))
                    if isinstance(found, BaseException):
                        raise found
                    metrics.READS.inc()
                    if channel.at is None or channel.at.epoch != start.epoch:
                        return
                    if found is not None and (found.more or found.reset):
                        await self._skip(channel)
                        continue
                except Exception as error:
                    # Followers wait until the store answers again; their positions lose nothing by it.
                    log.warning("hub.read_failed", conversation_id=str(channel.id), reason=str(error))
                    await asyncio.sleep(_READ_RETRY_SECONDS)
                    first = True
                    continue
                if found is None:
                    return
                if found.end.rev <= start.rev:
                    # Word came of what is not there: it was of a history that is lost.
                    channel.wanted = min(channel.wanted, start.rev)
                elif channel.at is start:
                    self._push(channel, found, read=True)
                elif channel.at.rev < found.end.rev:
                    # A commit of this process was handed on meanwhile, and what was read begins before it. The rest
                    # is read again from there, so that no follower gets a row twice. That happens once at most: what
                    # is missing now is another process's, and no commit of this one can be handed on before it.
                    first = True
        finally:
            if channel.reading is asyncio.current_task():
                channel.reading = None

    async def _read_together(self, asked: Sequence[_Asked]) -> Sequence[Changes | BaseException | None]:
        """What is behind some positions. Where that fails each is read by itself: what it is of one holds up no
        other."""
        try:
            return await self._source.since(asked, _READ_ROWS)
        except Exception as error:
            if len(asked) == 1:
                return [error]
        alone = await asyncio.gather(*(self._source.since([one], _READ_ROWS) for one in asked), return_exceptions=True)
        return [one if isinstance(one, BaseException) else one[0] for one in alone]

    async def _skip(self, channel: Channel) -> None:
        """Too much for the ring: go to the present, and let each follower catch up from the store. Who is no longer
        a member by then is told so here, as the change that says it is skipped."""
        users = list({follower.user_id for follower in channel.followers})
        now = (await self._source.states([channel.id])).get(channel.id)
        gone = await self._source.departed(channel.id, users)
        if now is not None and channel.at is not None and now.rev > channel.at.rev:
            self._end_memberships(channel, gone, closed=now.closed)
            channel.at = now.position
            self._empty(channel)
            self._wake_all(channel)

    def _push(self, channel: Channel, changes: Changes, *, read: bool = False) -> None:
        if channel.at is None or changes.start is None or changes.end.rev <= channel.at.rev:
            return
        self._end_memberships(channel, changes.departed, closed=changes.closed)
        if not channel.followers:
            return
        before = channel.ring_bytes
        for part in changes.parts():
            assert part.start is not None
            lowest = min((message["seq"] for message in part.messages), default=None)
            channel.push(Entry(part.start, part.end, part.tail(), lowest, read), part.floor)
        self._bound(channel, channel.ring_bytes - before)
        self._wake_all(channel)

    def keep(self, found: Changes, upto: ChangePosition | None) -> None:
        """A follower has had this read from the store, whole and up to where the ring begins: others who come back
        from the same position need not read it again."""
        channel = self.channels.get(found.conversation_id)
        if channel is None or found.start is None or found.more or found.reset or found.departed or found.closed:
            return
        before, begins, tail = channel.ring_bytes, channel.begins, found.tail()
        lowest = min((message["seq"] for message in found.messages), default=None)
        fits = channel.has_room(len(tail)) and (lowest is None or lowest >= channel.floor)
        if fits and found.end == upto == begins:
            until = time.monotonic() + _KEPT_SECONDS
            channel.precede(Entry(found.start, found.end, tail, lowest, read=True, until=until))
        if channel.ring_bytes != before:
            self._bound(channel, channel.ring_bytes - before)

    def _bound(self, channel: Channel, grown: int) -> None:
        """Hold what all rings keep within the bound of the process: the ring that has moved least lately goes."""
        self.ring_bytes += grown
        self._rings[channel.id] = channel
        self._rings.move_to_end(channel.id)
        while self.ring_bytes > self._most and len(self._rings) > 1:
            self._empty(next(iter(self._rings.values())))

    def _end_memberships(self, channel: Channel, departed: dict[str, str], *, closed: bool) -> None:
        """Nobody gets the change set that says they have left, nor anything behind it."""
        if not (departed or closed):
            return
        for follower in tuple(channel.followers):
            reason = "closed" if closed else departed.get(follower.user_id)
            if reason is not None:
                self.unfollow(follower)
                follower.listener.end(follower, reason)

    def _wake_all(self, channel: Channel) -> None:
        for follower in channel.followers:
            follower.listener.wake(follower)

    async def stop(self) -> None:
        await self._located.stop()
        await self._since.stop()
        for task in tuple(self._tasks):
            task.cancel()
        if self._tasks:
            await asyncio.wait(self._tasks)
