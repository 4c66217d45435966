"""The truth of a simulation: what PostgreSQL promises the service, with transactions that commit late."""

from __future__ import annotations

import asyncio
import copy
import random
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from typing import Any, TypeVar
from uuid import UUID

from nestrel.core.callers import Caller
from nestrel.core.commands import Command, Edit, Post, Read, Remove
from nestrel.core.cursors import AllPosition, ChangePosition
from nestrel.core.epochs import Begun, Epoch, Lineage
from nestrel.core.problems import Expired, Forbidden, NotFound, Problem, StoreUnavailable
from nestrel.live.source import Gone, Mine, Want
from nestrel.store.events import Moved
from nestrel.store.read.changes import Changes, State
from nestrel.store.read.journal import Tail
from nestrel.store.read.resync import Pending
from nestrel.store.write.answers import Growth, Written

Found = TypeVar("Found")
AT = "2026-11-25T10:00:00.000000Z"
NEWEST = 4
ROWS = 5
MOST = 30
TOGETHER = 3


@dataclass
class Row:
    """A changeable row: `born` is the transaction that made it (for a member, the last joining)."""

    wire: dict[str, Any]
    xid: int
    born: int

    @property
    def rev(self) -> int:
        return int(self.wire["rev"])


@dataclass
class Talk:
    """One conversation."""

    id: UUID
    rev: int = 0
    head: int = 0
    floor: int = 1
    own_rev: int = 0
    xid: int = 0
    closed: bool = False
    messages: dict[int, Row] = field(default_factory=dict)
    members: dict[str, Row] = field(default_factory=dict)
    reasons: dict[str, str] = field(default_factory=dict)
    keys: dict[tuple[str, str], int] = field(default_factory=dict)
    posted: list[str] = field(default_factory=list)
    epochs: list[int] = field(default_factory=list)
    begins: list[int] = field(default_factory=list)

    @property
    def begun(self) -> Begun:
        return Begun(self.epochs, self.begins, self.rev)

    def has(self, user: str) -> bool:
        return not self.closed and user in self.members and self.members[user].wire["left_at"] is None

    def wire(self) -> dict[str, Any]:
        return {
            "id": str(self.id), "name": None, "title": f"t{self.own_rev}", "kind": "group", "visibility": "closed",
            "attributes": {}, "created_by": "mara", "created_at": AT, "head": self.head, "floor": self.floor,
            "rev": self.rev, "message_count": self.head - self.floor + 1, "last_message": None, "my_role": None,
            "unread": None, "members": len(self.members),
        }  # fmt: skip


class Truth:
    """The store. `notify` hears of each commit, with the node that made it. Whatever is asked of it may fail."""

    def __init__(self, dice: random.Random) -> None:
        self.dice = dice
        self.talks: dict[UUID, Talk] = {}
        self.notify: Callable[[object, Moved, Growth | None], None] = lambda *_: None
        self.trouble = 0.0
        self.uncertain: set[str] = set()
        """Bodies of posts whose commit was not answered: their authors may see them before they know."""
        self.lsn = 1_000
        self.lineage = Lineage([Epoch(1)])
        self._epochs = [Epoch(1)]
        self._locks: dict[UUID, asyncio.Lock] = {}
        self._next_xid = 100
        self._running: set[int] = set()
        self._saved: list[tuple[dict[UUID, Talk], int, int, list[Epoch]]] = []

    @property
    def epoch(self) -> int:
        return self.lineage.present

    # Failing, and being restored

    def fail(self) -> None:
        if self.dice.random() < self.trouble:
            raise StoreUnavailable("it does not answer")

    async def read(self, work: Callable[[], Found]) -> Found:
        """A question: it takes its time, sees one state, and may come to nothing."""
        await self.lag()
        self.fail()
        epoch, found = self.epoch, work()
        await self.lag()
        if epoch != self.epoch:
            raise StoreUnavailable("the line broke")
        return found

    def save(self) -> None:
        """A copy of everything, as a standby or a backup has it."""
        self._saved.append((copy.deepcopy(self.talks), self.lsn, self._next_xid, self._epochs))

    def restore(self, *, promoted: bool) -> None:
        """Go on from an earlier copy, or from the present state where there is none: numbers, transactions and log
        positions behind it are given out again."""
        if not self._saved or (promoted and self.dice.random() < 0.3):
            self._saved = []
            self.save()
        talks, self.lsn, self._next_xid, before = self.dice.choice(self._saved)
        self.talks = copy.deepcopy(talks)
        self._epochs = [*before, Epoch(self.dice.getrandbits(60), self.lsn if promoted else None)]
        self.lineage = Lineage(self._epochs)
        self._running.clear()
        if promoted:
            self._saved = []  # a backup of before belongs to another line of the log

    async def lag(self, most: float = 0.05) -> None:
        await asyncio.sleep(self.dice.random() * most)

    def snapshot(self) -> AllPosition:
        running = tuple(sorted(self._running))
        first = running[0] if running else self._next_xid
        return AllPosition(self.epoch, self.lsn, first, self._next_xid, running)

    def make(self, id_: UUID, users: Sequence[str]) -> None:
        talk = self.talks[id_] = Talk(id_, rev=1, own_rev=1, xid=self._next_xid, epochs=[self.epoch], begins=[0])
        self._next_xid += 1
        for user in users:
            self._join(talk, user, talk.xid)

    # Writing

    async def change(self, node: object, id_: UUID, decide: Callable[[Talk, int], Growth | None], *users: str) -> None:
        """A transaction under the conversation's lock: what `decide` does is seen when it commits, after a while."""
        self.fail()
        async with self._locks.setdefault(id_, asyncio.Lock()):
            epoch, xid = self.epoch, self._next_xid
            self._next_xid += 1
            self._running.add(xid)
            try:
                await self.lag()
                if epoch != self.epoch:
                    raise StoreUnavailable("the line broke")
                talk = self.talks[id_]
                before = talk.rev
                growth = decide(talk, xid)
                if talk.rev > before:
                    talk.xid = xid
                    if talk.epochs[0] != epoch:
                        talk.epochs, talk.begins = [epoch, *talk.epochs][:8], [before, *talk.begins][:8]
            finally:
                if epoch == self.epoch:
                    # Whatever has a number leaves a record of its end in the log, also where it changed nothing: a
                    # standby that has the log up to a snapshot gives no number out again which that has seen.
                    self.lsn += 10
                    self._running.discard(xid)
            if talk.rev > before:
                self.notify(node, Moved(id_, talk.rev, users), growth)

    def _join(self, talk: Talk, user: str, xid: int) -> None:
        talk.rev += 1
        read_seq = talk.members[user].wire["read_seq"] if user in talk.members else 0
        talk.members[user] = Row(
            {"user_id": user, "role": "writer", "joined_at": AT, "left_at": None, "read_seq": read_seq,
             "read_at": None, "rev": talk.rev}, xid, xid,
        )  # fmt: skip

    async def join(self, node: object, id_: UUID, user: str) -> None:
        def decide(talk: Talk, xid: int) -> None:
            if not talk.closed and not talk.has(user):
                self._join(talk, user, xid)

        await self.change(node, id_, decide, user)

    async def leave(self, node: object, id_: UUID, user: str, reason: str) -> None:
        def decide(talk: Talk, xid: int) -> None:
            if talk.has(user):
                talk.rev += 1
                row = talk.members[user]
                talk.members[user] = Row({**row.wire, "left_at": AT, "rev": talk.rev}, xid, row.born)
                talk.reasons[user] = reason

        await self.change(node, id_, decide)

    async def rename(self, node: object, id_: UUID) -> None:
        def decide(talk: Talk, _xid: int) -> None:
            if not talk.closed:
                talk.rev += 1
                talk.own_rev = talk.rev

        await self.change(node, id_, decide)

    async def expire(self, node: object, id_: UUID) -> None:
        """A rule moves the floor, and a sweep takes away at once what is below it."""

        def decide(talk: Talk, _xid: int) -> None:
            if not talk.closed and talk.floor <= talk.head:
                talk.rev += 1
                talk.floor = self.dice.randint(talk.floor + 1, talk.head + 1)
                for seq in [seq for seq in talk.messages if seq < talk.floor]:
                    del talk.messages[seq]

        await self.change(node, id_, decide)

    async def close(self, node: object, id_: UUID) -> None:
        def decide(talk: Talk, _xid: int) -> None:
            talk.rev += 1
            talk.own_rev, talk.closed = talk.rev, True

        await self.change(node, id_, decide)

    async def carry_out(self, node: object, command: Command, followed: Callable[[UUID], bool]) -> Written:
        """A command of the write path, as its promises say. Raises `Problem`."""
        id_ = command.conversation_id
        answer: list[Written | Problem] = []

        def decide(talk: Talk, xid: int) -> Growth | None:
            growth = Growth(talk.id, talk.rev, talk.head, 0, 0, talk.floor, followed(talk.id), self.epoch)
            try:
                answer.append(self._decide(talk, command, xid, growth))
            except Problem as problem:
                answer.append(problem)
            growth.rev, growth.head = talk.rev, talk.head
            return growth

        await self.change(node, id_, decide)
        if self.dice.random() < self.trouble / 2:
            if isinstance(command, Post):
                self.uncertain.add(command.body)
            raise StoreUnavailable("it is done, and the answer is lost")
        if isinstance(answer[0], Problem):
            raise answer[0]
        return answer[0]

    def _decide(self, talk: Talk, command: Command, xid: int, growth: Growth) -> Written:
        user = command.author_id if isinstance(command, Post) else command.user_id
        known = talk.keys.get((user, command.key or "")) if isinstance(command, Post) else None
        if known is None and not talk.has(user):
            raise NotFound("there is no such conversation")
        if isinstance(command, Read):
            row = talk.members[user]
            if command.read_seq > row.wire["read_seq"]:
                talk.rev += 1
                wire = {**row.wire, "read_seq": command.read_seq, "rev": talk.rev}
                talk.members[user] = Row(wire, xid, row.born)
                growth.members.append(wire)
            return Written({"read_seq": talk.members[user].wire["read_seq"], "unread": 0})
        if isinstance(command, Post):
            assert command.key is not None
            if known is not None and known < talk.floor:
                raise Expired("it is no longer kept")
            if known is not None:
                return Written(talk.messages[known].wire)
            talk.rev, talk.head = talk.rev + 1, talk.head + 1
            talk.keys[user, command.key] = talk.head
            talk.posted.append(command.body)
            return self._put(talk, talk.head, xid, growth, author_id=user, body=command.body)
        assert isinstance(command, (Edit, Remove))
        held = talk.messages.get(command.seq)
        if command.seq < talk.floor:
            raise Expired("it is no longer kept")
        if held is None:
            raise NotFound("there is no such message")
        if isinstance(command, Remove):
            if held.wire["removed_at"] is not None:
                return Written(held.wire)
            talk.rev += 1
            return self._put(talk, command.seq, xid, growth, body="", removed_at=AT, removed_by=user)
        if held.wire["author_id"] != user or held.wire["removed_at"] is not None:
            raise Forbidden("it is not yours")
        if held.wire["body"] == command.body:
            return Written(held.wire)
        talk.rev += 1
        return self._put(talk, command.seq, xid, growth, body=command.body, edits=held.wire["edits"] + 1)

    def _put(self, talk: Talk, seq: int, xid: int, growth: Growth, **fields: Any) -> Written:
        held = talk.messages.get(seq)
        wire = held.wire if held is not None else {
            "conversation_id": str(talk.id), "seq": seq, "rev": 0, "author_id": "", "body": "", "format": "plain",
            "attributes": {}, "reply_to": None, "created_at": AT, "edited_at": None, "edits": 0, "removed_at": None,
            "removed_by": None, "reactions": [], "attachments": [],
        }  # fmt: skip
        wire = {**wire, **fields, "rev": talk.rev}
        talk.messages[seq] = Row(wire, xid, held.born if held is not None else xid)
        growth.messages.append(wire)
        return Written(wire, new=held is None)

    # Reading: `Source`, with pages so small that everything comes in parts

    async def states(self, conversation_ids: Sequence[UUID]) -> dict[UUID, State]:
        return await self.read(
            lambda: {id_: self._state(self.talks[id_]) for id_ in conversation_ids if id_ in self.talks}
        )

    def _state(self, talk: Talk) -> State:
        return State(talk.rev, talk.head, talk.floor, talk.own_rev, talk.closed, self.epoch, talk.begun)

    async def since(self, asked: Sequence[tuple[UUID, ChangePosition]], limit: int) -> Sequence[Changes | None]:
        return await self.read(
            lambda: [self._since(self.talks.get(id_), start, min(limit, ROWS), None) for id_, start in asked]
        )

    async def departed(self, conversation_id: UUID, user_ids: Sequence[str]) -> dict[str, str]:
        def look() -> dict[str, str]:
            talk = self.talks[conversation_id]
            return {user: talk.reasons[user] for user in user_ids if not talk.has(user) and user in talk.reasons}

        return await self.read(look)

    async def check(self, caller: Caller, conversation_id: UUID) -> None:
        def look() -> None:
            if conversation_id not in self.talks or not self.talks[conversation_id].has(caller.user_id):
                raise NotFound("there is no such conversation")

        await self.read(look)

    async def catch_up(self, caller: Caller, wants: Sequence[Want], limit: int) -> dict[UUID, Changes | Gone]:
        return {one.conversation_id: await self._caught_up(caller, one, limit) for one in wants[:TOGETHER]}

    async def _caught_up(self, caller: Caller, want: Want, limit: int) -> Changes | Gone:
        def look() -> Changes | None:
            talk = self.talks.get(want.conversation_id)
            if want.start is None:
                return self.newest(talk)
            return self._since(talk, want.start, min(limit, ROWS), want.upto, MOST)

        found = await self.read(look)
        # Looked at after the reading, as the store does.
        talk = self.talks.get(want.conversation_id)
        if found is None or talk is None or talk.closed:
            return Gone("closed")
        return found if talk.has(caller.user_id) else Gone(talk.reasons.get(caller.user_id, "removed"))

    async def mine(self, user_id: str) -> list[UUID]:
        return await self.read(lambda: sorted(id_ for id_, talk in self.talks.items() if talk.has(user_id)))

    async def memberships(self, asked: Sequence[tuple[str, int]]) -> Sequence[Mine]:
        return await self.read(lambda: [self._mine(*one) for one in asked])

    def _mine(self, user_id: str, since: int) -> Mine:
        mine = Mine([], [], [])
        for id_ in sorted(self.talks):
            talk = self.talks[id_]
            row = talk.members.get(user_id)
            if row is None:
                continue
            if talk.has(user_id):
                mine.ids.append(id_)
                if row.born >= since:
                    mine.joined.append((id_, row.born))
            else:
                xid = talk.xid if row.wire["left_at"] is None else row.xid
                if xid >= since:
                    mine.ended.append((id_, talk.reasons.get(user_id, "closed"), xid))
        return mine

    async def still(self, asked: Sequence[tuple[str, Sequence[UUID]]]) -> Sequence[set[UUID]]:
        return await self.read(lambda: [{id_ for id_ in ids if self.talks[id_].has(user_id)} for user_id, ids in asked])

    async def begun(self, since: AllPosition, ids: Sequence[UUID]) -> dict[UUID, ChangePosition]:
        return await self.read(lambda: {id_: self._seen(self.talks[id_], since) for id_ in ids})

    async def moved(self, user_id: str, since: AllPosition) -> tuple[bool, list[Pending]]:
        def look() -> tuple[bool, list[Pending]]:
            if self.lineage.goes_on(since, self.snapshot()):
                return False, self.places(user_id, since)
            return True, [Pending(id_, joined=True) for id_, talk in sorted(self.talks.items()) if talk.has(user_id)]

        return await self.read(look)

    async def tell_apart(self, running: Collection[int]) -> None:
        """All of them move something here."""

    async def tail(self, since: AllPosition | None) -> Tail:
        return await self.read(lambda: self.journal(since))

    def journal(self, since: AllPosition | None) -> Tail:
        """What moved since a snapshot; the simulation never trims."""
        moved = [
            (talk.xid, talk.id, talk.rev) for talk in self.talks.values() if since is None or not sees(since, talk.xid)
        ]
        joined = [
            (row.born, talk.id, user)
            for talk in self.talks.values()
            for user, row in talk.members.items()
            if since is not None and talk.has(user) and not sees(since, row.born)
        ]
        return Tail(self.snapshot(), 0, sorted(moved), joined)

    def places(self, user_id: str, since: AllPosition) -> list[Pending]:
        found = []
        for id_ in sorted(self.talks):
            talk = self.talks[id_]
            row = talk.members.get(user_id)
            if row is None or sees(since, talk.xid):
                continue
            if not talk.has(user_id):
                if (talk.closed and row.wire["left_at"] is None) or not sees(since, row.xid):
                    found.append(Pending(id_, gone=talk.reasons.get(user_id, "closed")))
            elif not sees(since, row.born):
                found.append(Pending(id_, joined=True))
            else:
                found.append(Pending(id_, self._seen(talk, since)))
        return found

    def _seen(self, talk: Talk, since: AllPosition) -> ChangePosition:
        """Where a snapshot stood, as far as the rows still tell."""
        rows = [row for row in (*talk.messages.values(), *talk.members.values()) if sees(since, row.xid)]
        seq = max((seq for seq, row in talk.messages.items() if sees(since, row.xid)), default=0)
        rev = max((row.rev for row in rows), default=0)
        return ChangePosition(rev, seq, rev, self.epoch)

    def newest(self, talk: Talk | None) -> Changes | None:
        if talk is None or talk.closed:
            return None
        found = Changes(
            talk.id, None, ChangePosition(talk.rev, talk.head, 0, self.epoch), talk.head, talk.floor, reset=True
        )
        found.conversation = talk.wire()
        found.messages = [talk.messages[seq].wire for seq in sorted(talk.messages)[-NEWEST:]]
        found.more = True
        return found

    def _since(
        self, talk: Talk | None, start: ChangePosition, limit: int, upto: ChangePosition | None, most: int | None = None
    ) -> Changes | None:
        if talk is None:
            return None
        rev, head = talk.rev, talk.head
        if not talk.closed and not self.lineage.holds(start, talk.begun):
            return self.newest(talk)
        if most is not None and start.rev + most < rev and head - start.seq > most:
            return self.newest(talk)
        if upto is not None and upto.epoch == self.epoch and upto.rev < rev and not talk.closed:
            rev, head = upto.rev, upto.seq
        found = Changes(talk.id, start, start, head, talk.floor, closed=talk.closed)
        if talk.closed:
            found.end = ChangePosition(rev, head, rev, self.epoch)
            return found
        at_rev, at_seq = start.rev, min(start.seq, head)
        changed = sorted(
            (row.rev, seq) for seq, row in talk.messages.items()
            if start.rev < row.rev <= rev and seq <= at_seq
        )  # fmt: skip
        found.messages += [talk.messages[seq].wire for _, seq in changed[:limit]]
        found.more = len(changed) > limit
        at_rev = changed[limit - 1][0] if found.more else max(at_rev, rev)
        limit -= len(found.messages)
        if not found.more:
            new = list(range(max(at_seq + 1, talk.floor), head + 1))
            found.messages += [talk.messages[seq].wire for seq in new[:limit]]
            found.more = len(new) > limit
            at_seq = (new[limit - 1] if limit else at_seq) if found.more else head
            limit -= len(new[:limit])
        at_member = start.member_rev
        if not found.more and at_member < rev:
            people = sorted((row for row in talk.members.values() if at_member < row.rev <= rev), key=lambda r: r.rev)
            for row in people[:limit]:
                found.members.append(row.wire)
                if row.wire["left_at"] is not None:
                    found.departed[row.wire["user_id"]] = talk.reasons[row.wire["user_id"]]
            found.more = len(people) > limit
            at_member = (people[limit - 1].rev if limit else at_member) if found.more else rev
        found.end = ChangePosition(at_rev, at_seq, at_member, self.epoch)
        if talk.own_rev > min(start.rev, start.member_rev):
            found.conversation = talk.wire()
        return found


def sees(snapshot: AllPosition, xid: int) -> bool:
    """As `pg_visible_in_snapshot`."""
    return xid < snapshot.xmin or (xid < snapshot.xmax and xid not in snapshot.running)
